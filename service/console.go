package service

import (
	"bytes"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/gzip"

	"patientlantern.example/lantern/core/source"
)

// asset is a file of the built console, as it goes over the wire.
type asset struct {
	kind   string // of its content
	tag    string // digest of the plain bytes
	plain  []byte
	packed []byte // by gzip; nil where that is not worth it
	hashed bool   // its name changes with its bytes
}

// assets are the files of the console that somebody has asked for.
type assets struct {
	sync.Mutex
	list map[string]*asset
}

// hashedName is how the build names files whose names change with their bytes.
var hashedName = regexp.MustCompile(`^assets/.+-[A-Za-z0-9_-]{8}\.[a-z0-9]+$`)

// leastPacked is the size below which packing does not pay, in bytes.
const leastPacked = 1024

// get reads a file of the console; fs.ErrNotExist where there is none.
func (a *assets) get(files fs.FS, name string) (*asset, error) {
	a.Lock()
	defer a.Unlock()
	if have := a.list[name]; have != nil {
		return have, nil
	}
	info, err := fs.Stat(files, name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	plain, err := fs.ReadFile(files, name)
	if err != nil {
		return nil, err
	}
	out := &asset{
		kind:   mime.TypeByExtension(path.Ext(name)),
		tag:    source.Digest(plain),
		plain:  plain,
		hashed: hashedName.MatchString(name),
	}
	if len(plain) >= leastPacked {
		var b bytes.Buffer
		w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
		if err == nil {
			_, err = w.Write(plain)
		}
		if err == nil {
			err = w.Close()
		}
		if err == nil && b.Len() < len(plain)*9/10 {
			out.packed = b.Bytes()
		}
	}
	if a.list == nil {
		a.list = map[string]*asset{}
	}
	a.list[name] = out
	return out, nil
}

// console serves the built console; a path that is no file is a page of it.
func (s *Service) console(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	if strings.HasPrefix(name, "api/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
		problem(w, http.StatusNotFound, "there is nothing at "+r.URL.Path)
		return
	}
	var file *asset
	var err error
	if strings.HasPrefix(name, "assets/") {
		if file, err = s.assets.get(s.opts.Console, name); err != nil {
			problem(w, http.StatusNotFound, "there is nothing at "+r.URL.Path)
			return
		}
	} else {
		if name == "" || !strings.Contains(path.Base(name), ".") || strings.HasPrefix(name, "hosts/") {
			name = "index.html"
		}
		if file, err = s.assets.get(s.opts.Console, name); err != nil {
			problem(w, http.StatusNotFound, "the console is not built into this binary; run make build")
			return
		}
	}
	file.serve(w, r)
}

// serve answers with the file, or that the browser has it already.
func (a *asset) serve(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Cache-Control", "no-cache") // asked for each time, and answered in a line where it is the same
	if a.hashed {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	h.Add("Vary", "Accept-Encoding")
	if a.kind != "" {
		h.Set("Content-Type", a.kind)
	}
	body, tag := a.plain, a.tag
	if a.packed != nil && takesGzip(r) {
		h.Set("Content-Encoding", "gzip")
		body, tag = a.packed, a.tag+"-gzip" // other bytes, so another tag
	}
	h.Set("ETag", strconv.Quote(tag))
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(body))
}

// takesGzip reports whether who asks takes gzip. RFC 9110, 12.5.3.
func takesGzip(r *http.Request) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, quality, _ := strings.Cut(part, ";")
		if strings.EqualFold(strings.TrimSpace(name), "gzip") {
			q, err := strconv.ParseFloat(strings.TrimPrefix(strings.ReplaceAll(quality, " ", ""), "q="), 64)
			return err != nil || q > 0 // without a quality it is 1
		}
	}
	return false
}
