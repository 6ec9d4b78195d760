package browser

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"wetland/internal/testenv"
)

// Another user of this machine gets nothing by the proxy, which knows the site's password.
func TestProxyServesNobodyElse(t *testing.T) {
	if os.Geteuid() != 0 {
		testenv.Missing(t, "the rights of root")
	}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "what the password protects") }))
	defer site.Close()
	p, err := startProxy(http.DefaultTransport, 65534)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	for user, want := range map[uint32]bool{0: true, 65534: true, 33: false, 12345: false} {
		ask := exec.Command("bash", "-c", fmt.Sprintf(`exec 3<>/dev/tcp/127.0.0.1/%d; printf 'GET %s/ HTTP/1.0\r\n\r\n' >&3; cat <&3`, p.Addr().(*net.TCPAddr).Port, site.URL))
		ask.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
		out, _ := ask.CombinedOutput() // who is hung up on fails
		if strings.Contains(string(out), "what the password protects") != want {
			t.Errorf("the user %d got %q", user, out)
		}
	}
}
