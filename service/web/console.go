package web

import (
	"bytes"
	"cmp"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/gzip"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/answer"
)

// asset is a file of the built console, as it goes over the wire.
type asset struct {
	kind   string // of its content
	tag    string // digest of the plain bytes
	plain  []byte
	packed []packed // smallest first; none where it is not worth it
	hashed bool     // its name changes with its bytes
}

// packed is a file in a coding of HTTP.
type packed struct {
	coding string
	bytes  []byte
}

// built are the codings that the console's build has made already, and the ends of their names.
var built = map[string]string{"br": ".br", "zstd": ".zst"}

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
	if info.IsDir() || isPacked(name) {
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
		out.packed = packings(files, name, plain)
	}
	if a.list == nil {
		a.list = map[string]*asset{}
	}
	a.list[name] = out
	return out, nil
}

// isPacked reports whether a name is that of a file which stands for another.
func isPacked(name string) bool {
	for _, end := range built {
		if strings.HasSuffix(name, end) {
			return true
		}
	}
	return false
}

// packings are those in which a file is smaller, the smallest first.
func packings(files fs.FS, name string, plain []byte) (out []packed) {
	for coding, end := range built {
		if b, err := fs.ReadFile(files, name+end); err == nil {
			out = append(out, packed{coding, b})
		}
	}
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err == nil {
		_, err = w.Write(plain)
	}
	if err == nil {
		err = w.Close()
	}
	if err == nil {
		out = append(out, packed{"gzip", b.Bytes()})
	}
	out = slices.DeleteFunc(out, func(p packed) bool { return len(p.bytes) >= len(plain)*9/10 })
	slices.SortFunc(out, func(a, b packed) int {
		return cmp.Or(len(a.bytes)-len(b.bytes), strings.Compare(a.coding, b.coding))
	})
	return out
}

// console serves the built console; a path that is no file is a page of it.
func (w *Web) console(rw http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	if strings.HasPrefix(name, "api/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
		answer.Problem(rw, http.StatusNotFound, "there is nothing at "+r.URL.Path)
		return
	}
	var file *asset
	var err error
	if strings.HasPrefix(name, "assets/") {
		if file, err = w.assets.get(w.opts.Console, name); err != nil {
			answer.Problem(rw, http.StatusNotFound, "there is nothing at "+r.URL.Path)
			return
		}
	} else {
		if name == "" || !strings.Contains(path.Base(name), ".") || strings.HasPrefix(name, "hosts/") {
			name = "index.html"
		}
		if file, err = w.assets.get(w.opts.Console, name); err != nil {
			answer.Problem(rw, http.StatusNotFound, "the console is not built into this binary; run make build")
			return
		}
	}
	file.serve(rw, r)
}

// serve answers with the file, or that the browser has it already.
func (a *asset) serve(rw http.ResponseWriter, r *http.Request) {
	h := rw.Header()
	h.Set("Cache-Control", "no-cache") // asked for each time, and answered in a line where it is the same
	if a.hashed {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	h.Add("Vary", "Accept-Encoding")
	if a.kind != "" {
		h.Set("Content-Type", a.kind)
	}
	body, tag := a.plain, a.tag
	if p := a.packedFor(r); p != nil {
		h.Set("Content-Encoding", p.coding)
		body, tag = p.bytes, a.tag+"-"+p.coding // other bytes, so another tag
	}
	h.Set("ETag", strconv.Quote(tag))
	http.ServeContent(rw, r, "", time.Time{}, bytes.NewReader(body))
}

// packedFor is the smallest packing that who asks takes, or prefers; nil for none.
func (a *asset) packedFor(r *http.Request) (best *packed) {
	taken, wanted := codings(r), 0.0
	for i := range a.packed {
		p := &a.packed[i]
		q, named := taken[p.coding]
		if !named {
			q = taken["*"]
		}
		if q > wanted {
			best, wanted = p, q
		}
	}
	return best
}

// codings are those that who asks takes, and how much each is wanted. RFC 9110, 12.5.3.
func codings(r *http.Request) map[string]float64 {
	out := map[string]float64{}
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, quality, _ := strings.Cut(part, ";")
		q, err := strconv.ParseFloat(strings.TrimPrefix(strings.ReplaceAll(quality, " ", ""), "q="), 64)
		if err != nil {
			q = 1 // without a quality it is 1
		}
		out[strings.ToLower(strings.TrimSpace(name))] = q
	}
	return out
}
