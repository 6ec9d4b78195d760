package packages

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"wetland/core/network"
	"wetland/core/workspace"
)

// Download fetches archives from vendors.
type Download struct {
	Client *http.Client  // nil: a plain one
	Pause  time.Duration // between tries on a bad line; 0: two seconds
	// SHA256 is the expected checksum, in hexadecimal; empty: none is known.
	SHA256 string
}

const (
	// tries is how often a download is taken up again on a bad line.
	tries = 5
	// largestDownload bounds what is fetched, in bytes.
	largestDownload = 512 << 20
	// mostHops is how often a vendor's server may lead on.
	mostHops = 5
)

// CarriesSecret tells whether an address holds something that must not be seen in
// a list of processes or a shell's history.
func CarriesSecret(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return true
	}
	for name := range u.Query() {
		if workspace.LooksSecret(name) {
			return true
		}
	}
	return u.User != nil
}

// Shown is an address without what may be secret in it: no query, no user.
func Shown(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "an address that cannot be read"
	}
	u.User, u.RawQuery, u.Fragment = nil, "", ""
	return u.String()
}

// Fetch downloads an archive into the folder and returns the file. A line that
// breaks is taken up where it broke. Errors and the file's name are made of shown,
// the address without its secrets, and of nothing else.
func (d Download) Fetch(ctx context.Context, address, shown, folder string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return "", errors.New("this is not an address of the form https://vendor.example/package.zip")
	}
	name, _, _ := strings.Cut(path.Base(shown), "?")
	name = plain(name)
	if !strings.EqualFold(filepath.Ext(name), ".zip") {
		name += ".zip"
	}
	out, err := os.OpenFile(filepath.Join(folder, name), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return "", err
	}
	err = d.fill(ctx, u, out)
	if err := errors.Join(err, out.Close()); err != nil {
		return "", fmt.Errorf("download %s: %w", shown, err)
	}
	return out.Name(), d.check(out.Name())
}

func (d Download) fill(ctx context.Context, u *url.URL, out *os.File) error {
	pause := d.Pause
	if pause == 0 {
		pause = 2 * time.Second
	}
	var mark string // identifies what is being downloaded, so that halves of two versions are never joined
	var failed error
	for try := range tries {
		if try > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(pause):
			}
		}
		var again bool
		if mark, again, failed = d.part(ctx, u, out, mark); failed == nil || !again {
			return failed
		}
	}
	return fmt.Errorf("the connection broke %d times: %w", tries, failed)
}

// part fetches from where the file ends. again tells that trying again may help.
func (d Download) part(ctx context.Context, u *url.URL, out *os.File, mark string) (newMark string, again bool, err error) {
	at, err := out.Seek(0, io.SeekEnd)
	if err != nil {
		return mark, false, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return mark, false, errors.New("the address cannot be asked for")
	}
	request.Header.Set("User-Agent", "Wetland")
	if at > 0 && mark != "" {
		request.Header.Set("Range", fmt.Sprintf("bytes=%d-", at))
		request.Header.Set("If-Range", mark)
	}
	client := http.Client{}
	if d.Client != nil {
		client = *d.Client
	}
	client.CheckRedirect = leadOn
	response, err := client.Do(request)
	if err != nil {
		err = withoutAddress(err)
		return mark, ctx.Err() == nil && !isFinal(err), err
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode == http.StatusOK:
		at = 0
		if err := errors.Join(out.Truncate(0), rewind(out)); err != nil {
			return mark, false, err
		}
	case response.StatusCode == http.StatusPartialContent && at > 0:
	case response.StatusCode >= 500 || response.StatusCode == http.StatusTooManyRequests:
		return mark, true, fmt.Errorf("the vendor's server answers %d", response.StatusCode)
	default:
		return mark, false, fmt.Errorf("the vendor's server answers %d. Is there such a version, and is the key right?", response.StatusCode)
	}
	mark = response.Header.Get("ETag")
	if at+response.ContentLength > largestDownload {
		return mark, false, errTooLarge
	}
	n, err := io.Copy(out, io.LimitReader(response.Body, largestDownload+1-at))
	if err != nil {
		return mark, ctx.Err() == nil, withoutAddress(err)
	}
	if at+n > largestDownload {
		return mark, false, errors.Join(errTooLarge, out.Truncate(0))
	}
	return mark, false, nil
}

func rewind(file *os.File) error {
	_, err := file.Seek(0, io.SeekStart)
	return err
}

var (
	errTooLarge = fmt.Errorf("it is larger than %d MB, and no package is that large", largestDownload>>20)
	// Each ends a download: what would come is installed, and runs on the site.
	errDowngrade = errors.New("its server redirects from https to http, where anybody on the way can change the download. Ask the vendor for an address that stays with https")
	errInward    = errors.New("its server redirects to an address of a private network, where no vendor is")
	errTooFar    = fmt.Errorf("its server redirects more than %d times", mostHops)
	errNowhere   = errors.New("its server redirects to an address that cannot be read")
)

// isFinal tells that trying again would bring the same.
func isFinal(err error) bool {
	var certificate *tls.CertificateVerificationError
	return errors.Is(err, errDowngrade) || errors.Is(err, errInward) || errors.Is(err, errTooFar) || errors.Is(err, errNowhere) || errors.As(err, &certificate)
}

// leadOn decides whether to go where a vendor's server leads: not from https to http, and not into
// a private network from outside of it. Where it comes from is not told there: a key may be in it.
func leadOn(request *http.Request, via []*http.Request) error {
	request.Header.Del("Referer")
	first := via[0].URL
	switch {
	case len(via) > mostHops:
		return errTooFar
	case via[len(via)-1].URL.Scheme == "https" && request.URL.Scheme != "https":
		return errDowngrade
	case request.URL.Hostname() != first.Hostname() && network.LeadsInward(request.Context(), first.Hostname(), request.URL.Hostname()):
		return errInward
	}
	return nil
}

// withoutAddress takes the address out of an error, and the one that a server leads on to: a key
// may be in either.
func withoutAddress(err error) error {
	var wrapped *url.Error
	if !errors.As(err, &wrapped) {
		return err
	}
	if strings.Contains(wrapped.Err.Error(), "Location header") { // net/http, client.go, has no error of its own for it
		return errNowhere
	}
	return wrapped.Err
}

func (d Download) check(name string) error {
	if d.SHA256 == "" {
		return nil
	}
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	hasher := sha256.New()
	if _, err := io.Copy(hasher, file); err != nil {
		return err
	}
	if got := hex.EncodeToString(hasher.Sum(nil)); !strings.EqualFold(got, d.SHA256) {
		return fmt.Errorf("the checksum of the download is %s, not %s as you gave it: it was changed or damaged on the way. Do not install it", got, d.SHA256)
	}
	return nil
}
