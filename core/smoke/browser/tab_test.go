package browser

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// opened is a tab of a browser that runs.
func opened(t *testing.T) *Tab {
	t.Helper()
	program := Find()
	if program == "" {
		testenv.Missing(t, "chromium")
	}
	running, err := Start(t.Context(), Options{Program: program, Patience: time.Minute, Starting: time.Minute})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(running.Close)
	tab := running.Tab()
	t.Cleanup(tab.Close)
	return tab
}

// A tab shows one page after the other, and nothing of a page is left for the next one. A page
// is loaded once for all widths; what fades out when it becomes narrow has gone when it is
// measured.
func TestTabIsUsedAgain(t *testing.T) {
	loads := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/favicon.ico" {
			loads[r.URL.Path]++
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, `<!DOCTYPE html><html><head><meta name="viewport" content="width=device-width"><style>
.over { position: fixed; inset: 0; background: white; opacity: 0; visibility: hidden; transition: all 5s }
@media (min-width: 600px) { .over { opacity: 1; visibility: visible; position: static; transition: none } }</style></head>
<body><main><h1>Crossings</h1><p>The boats run from first light until dusk, every day of the year.</p><div class="over">Menu</div></main><script>
if (document.cookie || localStorage.getItem("seen") || sessionStorage.getItem("seen")) throw new Error("seen before");
localStorage.setItem("seen", "1"); sessionStorage.setItem("seen", "1"); document.cookie = "script=1";
if (location.pathname === "/second") throw new Error("of the second page");
</script></body></html>`)
	}))
	defer server.Close()
	tab := opened(t)
	for _, page := range []string{"/first", "/second", "/third"} {
		sights, err := tab.Look(t.Context(), Visit{Address: server.URL + page, Widths: []int{1280, 390}})
		if err != nil || len(sights) != 2 || loads[page] != 1 {
			t.Fatalf("%s: %d sights, loaded %d times, %v", page, len(sights), loads[page], err)
		}
		for _, sight := range sights {
			if sight.Problem != "" || len(sight.Image) == 0 || sight.First.Letters == 0 || sight.First.Under > 0 {
				t.Errorf("%s at %d: %q, a picture of %d bytes, %+v", page, sight.Width, sight.Problem, len(sight.Image), sight.First)
			}
			if want := map[string]int{"/second": 1}[page]; len(sight.Failures) != want {
				t.Errorf("%s at %d: %q", page, sight.Width, sight.Failures)
			}
		}
	}
}
