package e2e
import ("os";"os/exec";"testing";"wetland/internal/testenv")
func TestZZTrace(t *testing.T) {
	account := testenv.OwnSSHAccount(t)
	line := testenv.StartLine(t, account.Address(), lineDelay, lineWidth)
	site := testenv.WordPress(t)
	far := t.TempDir()
	run := func(name string, args ...string) {
		command := exec.Command(program, args...)
		command.Env = append(os.Environ(), "HOME="+account.Home, "TRACE_CALLS=/tmp/s/trace."+name)
		_ = os.Remove("/tmp/s/trace."+name)
		r := finish(t, command, far)
		t.Log(name, r.code)
	}
	run("adopt", "adopt", account.By(line.Address, site.Root), "--address", site.Address, "--no-browser", "--put-helper")
	good := themePackage(t, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	run("first", "snapshot")
	run("again", "snapshot")
	run("update", "update", good)
}
