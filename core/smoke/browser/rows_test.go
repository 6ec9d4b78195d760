package browser

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
)

// What stands side by side is counted at each width, and so are the pictures that have come
// or will, once a visitor gets there.
func TestRowsAndPictures(t *testing.T) {
	const picture, empty = "/boat.svg", "data:image/svg+xml,%3Csvg xmlns=%22http://www.w3.org/2000/svg%22/%3E"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case picture:
			w.Header().Set("Content-Type", "image/svg+xml")
			fmt.Fprint(w, `<svg xmlns="http://www.w3.org/2000/svg" width="30" height="30"><rect width="30" height="30"/></svg>`)
			return
		case "/none.png":
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, `<!DOCTYPE html><html><head><meta name="viewport" content="width=device-width"><style>
.row { display: flex } @media (max-width: 600px) { .row { display: block } }</style></head><body><main><h1>Boats</h1>
<div class="row"><section><h2>Otter</h2><p>She carries twelve.</p></section><section><h2>Heron</h2><p>She carries nine.</p></section></div>
<img src="%[1]s" alt=""><img src="%[1]s" alt=""><img src="/none.png" alt=""><img src="%[2]s" width="30" height="30" alt="">
<div style="height: 9000px"></div><img src="%[1]s" loading="lazy" alt=""><img src="%[2]s" loading="lazy" alt=""></main></body></html>`, picture, empty)
	}))
	defer server.Close()
	tab := opened(t)
	sights, err := tab.Look(t.Context(), Visit{Address: server.URL + "/", Widths: []int{1280, 390}})
	if err != nil || len(sights) != 2 {
		t.Fatalf("%d sights, %v", len(sights), err)
	}
	const says = "otter she carries twelve. heron she carries nine."
	for i, want := range []int{2, 1} {
		if got := sights[i].Rows[says]; got != want || sights[i].Pictures != 3 {
			t.Errorf("at %d: %d side by side, want %d, of %v; %d pictures", sights[i].Width, got, want, sights[i].Rows, sights[i].Pictures)
		}
	}
}
