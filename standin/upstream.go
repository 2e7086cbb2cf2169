package standin

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Faults that an upstream can be given.
const (
	FaultExpired  = "expired"   // metadata of long ago
	FaultWrongKey = "wrong-key" // signed by a key that nobody trusts
	Fault401      = "401"       // wants a login
	FaultSlow     = "slow"      // answers after seconds
	FaultCut      = "cut"       // breaks off in the middle
	FaultMissing  = "missing"   // the indexes are not there
	FaultPage     = "page"      // a page for people in the place of everything
)

// Upstreams serves the scenario's repositories over HTTP.
type Upstreams struct {
	keys map[string]*Key
	now  func() time.Time
	// Admits says whether a caller may have what a vendor sells; where it is nil
	// nobody may.
	Admits func(vendor, opens string, r *http.Request) bool

	mu     sync.Mutex
	built  map[string]map[string][]byte // vendor host → path → content, of those that somebody asked for
	faults map[string]string            // vendor host → fault
	signed map[string]string            // vendor host → key, where it is not the usual one
}

// NewUpstreams makes the keys of the repositories. A vendor's are built when they are first
// asked for, dated a little before that.
func NewUpstreams(now func() time.Time) (*Upstreams, error) {
	keys, err := Keys()
	if err != nil {
		return nil, err
	}
	u := &Upstreams{keys: keys, now: now, faults: map[string]string{}, signed: map[string]string{}}
	u.again()
	return u, nil
}

// Keys returns the keys that the repositories are signed with, by name.
func (u *Upstreams) Keys() map[string]*Key { return u.keys }

// again has every vendor's repositories built anew when they are asked for.
func (u *Upstreams) again() { u.built = map[string]map[string][]byte{} }

// of returns the files of a vendor.
func (u *Upstreams) of(host string) (map[string][]byte, error) {
	files, known := u.built[host]
	if known {
		return files, nil
	}
	files, err := u.build(host)
	if err == nil && len(files) > 0 {
		u.built[host] = files
	}
	return files, err
}

// build makes the repositories of a vendor.
func (u *Upstreams) build(host string) (map[string][]byte, error) {
	files := map[string][]byte{}
	take := func(base string, key **Key, build func(at time.Time) (map[string][]byte, error)) error {
		if vendor(base) != host {
			return nil
		}
		at := u.now().Add(-time.Hour)
		if k := u.keys[u.signed[host]]; k != nil {
			*key = k
		}
		switch u.faults[host] {
		case FaultExpired:
			at = at.Add(-30 * 24 * time.Hour)
		case FaultWrongKey:
			other, err := NewKey("nobody", "Nobody <nobody@nowhere.example>", time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC), 0)
			if err != nil {
				return err
			}
			*key = other
		}
		built, err := build(at)
		if err != nil {
			return fmt.Errorf("building %s: %w", base, err)
		}
		maps.Copy(files, built)
		return nil
	}
	var errs []error
	for _, s := range Suites(u.keys) {
		errs = append(errs, take(s.Base, &s.Key, func(at time.Time) (map[string][]byte, error) { return s.Build(at) }))
	}
	for _, r := range RpmRepositories(u.keys) {
		errs = append(errs, take(r.Base, &r.Key, func(at time.Time) (map[string][]byte, error) { return r.Build(at) }))
	}
	for _, r := range PacmanRepositories(u.keys) {
		key := &r.Key
		if r.Key == nil {
			key = new(*Key)
		}
		errs = append(errs, take(r.Base, key, func(at time.Time) (map[string][]byte, error) { return r.Build(at) }))
	}
	curlew := FlatpakRemote{Base: "/apps.curlew.example/repo", Key: u.keys["curlew-2025"]}
	errs = append(errs, take(curlew.Base, &curlew.Key, func(at time.Time) (map[string][]byte, error) { return curlew.Build(at) }))
	return files, errors.Join(errs...)
}

func vendor(path string) string {
	v, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	return v
}

// SetFault gives a vendor a fault; "" takes it away.
func (u *Upstreams) SetFault(vendor, fault string) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	switch fault {
	case "":
		delete(u.faults, vendor)
	case FaultExpired, FaultWrongKey, Fault401, FaultSlow, FaultCut, FaultMissing, FaultPage:
		u.faults[vendor] = fault
	default:
		return fmt.Errorf("there is no fault %q; faults are expired, wrong-key, 401, slow, cut, missing, page", fault)
	}
	u.again()
	return nil
}

// Resign lets a vendor sign with another of the scenario's keys.
func (u *Upstreams) Resign(vendor, key string) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.keys[key] == nil {
		return fmt.Errorf("there is no key %q", key)
	}
	u.signed[vendor] = key
	u.again()
	return nil
}

// place is what a caller asks for: a path, behind /token/TOKEN where that opens it.
func place(path string) string {
	if rest, ok := strings.CutPrefix(path, "/token/"); ok {
		if i := strings.IndexByte(rest, '/'); i >= 0 {
			return rest[i:]
		}
	}
	return path
}

// entitled reports whether a caller may have a place.
func (u *Upstreams) entitled(r *http.Request) bool {
	for _, l := range licensed {
		if strings.HasPrefix(place(r.URL.Path), l.path) {
			return u.Admits != nil && u.Admits(l.vendor, l.opens, r)
		}
	}
	return true
}

// told does what somebody tells the upstreams to do; is reports whether that is what is asked for.
func (u *Upstreams) told(r *http.Request) (is bool, err error) {
	vendor := r.URL.Query().Get("vendor")
	switch {
	case r.Method != http.MethodPost:
		return false, nil
	case r.URL.Path == "/-/fault":
		return true, u.SetFault(vendor, r.URL.Query().Get("fault"))
	case r.URL.Path == "/-/sign":
		return true, u.Resign(vendor, r.URL.Query().Get("key"))
	}
	return false, nil
}

// ServeHTTP serves the files. POST /-/fault?vendor=…&fault=… sets a fault, POST /-/sign?vendor=…&key=… has a vendor sign with another
// key of the scenario's.
func (u *Upstreams) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if is, err := u.told(r); err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	} else if is {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	u.mu.Lock()
	path := place(r.URL.Path)
	files, err := u.of(vendor(path))
	data, ok := files[path]
	fault := u.faults[vendor(path)]
	u.mu.Unlock()
	switch {
	case err != nil:
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	case fault == Fault401 || !u.entitled(r):
		w.Header().Set("WWW-Authenticate", `Basic realm="packages"`)
		http.Error(w, "a contract is needed", http.StatusUnauthorized)
		return
	case fault == FaultSlow:
		select {
		case <-time.After(3 * time.Second):
		case <-r.Context().Done():
			return
		}
	case fault == FaultPage:
		data = []byte("<!doctype html>\n<html><body>Sign in to the network</body></html>\n")
	case !ok, fault == FaultMissing && (strings.Contains(path, "/binary-") || strings.HasSuffix(path, ".xml.gz")):
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Length", fmt.Sprint(len(data)))
	if fault == FaultCut {
		_, _ = w.Write(data[:len(data)/2])
		panic(http.ErrAbortHandler)
	}
	if r.Method == http.MethodGet {
		_, _ = w.Write(data) // the caller has gone if this fails
	}
}

// ShelfHost holds the install media of the scenario.
const ShelfHost = "desk-1"

// AttachShelf puts the shelf's media into the drive of the host whose root that is.
func (u *Upstreams) AttachShelf(root string) error {
	const shelf = "shelf.brinewick.test"
	u.mu.Lock()
	defer u.mu.Unlock()
	files, err := u.of(shelf)
	if err != nil {
		return err
	}
	for name, data := range files {
		if rest, ok := strings.CutPrefix(name, "/"+shelf+"/"); ok {
			if err := write(filepath.Join(root, "srv/shelf", rest), data); err != nil {
				return err
			}
		}
	}
	return nil
}
