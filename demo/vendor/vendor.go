// Package vendor is the stand-in for a vendor's download server: it hands out the
// bundled packages to whoever has the licence key.
//
//	/get/NAME/VERSION.zip?key=KEY   a package; VERSION "newest" lags behind
//
// A wrong key gets what such servers give: a sign-in page with status 200.
package vendor

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"wetland/demo"
)

// Server hands out packages.
type Server struct {
	Key string
	// Drops is how many of the next downloads break off half-way.
	Drops atomic.Int32
	// Asked counts the requests.
	Asked atomic.Int32
	// Resumed counts the requests for the rest of a download that broke off.
	Resumed atomic.Int32
}

// Serve answers on listener for whoever has the key, until ctx ends.
func Serve(ctx context.Context, listener net.Listener, key string) error {
	server := &http.Server{Handler: &Server{Key: key}, ReadHeaderTimeout: 10 * time.Second}
	stopped := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stopped()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("serve the vendor's downloads: %w", err)
	}
	return nil
}

// newest is what the vendor's "newest" says: it lags behind what is published.
var newest = map[string]string{"harbourlight": "2.5.1", "tidetable": "2.0.0", "enquiries": "1.2.0"}

// ServeHTTP answers one download.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.Asked.Add(1)
	if r.Header.Get("Range") != "" {
		s.Resumed.Add(1)
	}
	if r.URL.Query().Get("key") != s.Key {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte("<!DOCTYPE html>\n<html><head><title>Sign in</title></head><body><h1>Lanternworks Studio</h1><p>Sign in to reach your downloads.</p></body></html>\n"))
		return
	}
	name, version, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/get/"), "/")
	version = strings.TrimSuffix(version, ".zip")
	if version == "newest" {
		version = newest[name]
	}
	var archive bytes.Buffer
	if !published(name + "-" + version) {
		http.Error(w, "there is no such package", http.StatusNotFound)
		return
	}
	if err := demo.WritePackage(&archive, name+"-"+version); err != nil {
		http.Error(w, "the package cannot be made", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("ETag", `"`+name+"-"+version+`"`)
	if s.Drops.Add(-1) >= 0 {
		w = &dropping{ResponseWriter: w, left: archive.Len() / 2}
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(archive.Bytes()))
}

func published(name string) bool {
	for _, one := range demo.Packages() {
		if one == name {
			return true
		}
	}
	return false
}

// dropping breaks the connection off after some bytes.
type dropping struct {
	http.ResponseWriter
	left int
}

func (d *dropping) Write(p []byte) (int, error) {
	if len(p) <= d.left {
		d.left -= len(p)
		return d.ResponseWriter.Write(p)
	}
	_, _ = d.ResponseWriter.Write(p[:d.left])
	if flusher, ok := d.ResponseWriter.(http.Flusher); ok {
		flusher.Flush()
	}
	panic(http.ErrAbortHandler)
}
