// Package shelf serves a folder of metadata and packages, as package managers ask for them: GET and HEAD, ranges,
// and whether a file is the one that they have. Nothing can be listed, changed, or reached outside of the folder.
package shelf

import (
	"errors"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"
	"syscall"
	"time"
)

// longest is how long the answer to one request may take: a package of some hundred megabytes over a slow line.
const longest = time.Hour

// Open opens the folder that is served. It is asked anew for each request, since media come and go.
type Open func() (*os.Root, error)

// Folder is a folder of this machine.
func Folder(name string) Open { return func() (*os.Root, error) { return os.OpenRoot(name) } }

// Handler serves the folder at the paths of requests. Files whose name, or a folder above them, begins with a dot
// are not served.
func Handler(open Open) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			w.Header().Set("Allow", "GET, HEAD")
			http.Error(w, "a shelf is only read", http.StatusMethodNotAllowed)
			return
		}
		_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(longest)) // where it cannot be set, the server's own holds
		f, info, err := file(open, r.URL.Path)
		switch {
		case errors.Is(err, fs.ErrPermission):
			http.Error(w, "this file may not be read here", http.StatusForbidden)
			return
		case err != nil:
			http.Error(w, "there is no such file on this shelf", http.StatusNotFound)
			return
		}
		defer f.Close()
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Cache-Control", "no-cache") // an index is asked for each time, and answered in a line where it is the same
		http.ServeContent(w, r, "", info.ModTime(), f)
	})
}

// file opens what stands at a path, where that is a plain file.
func file(open Open, at string) (*os.File, fs.FileInfo, error) {
	name := strings.TrimPrefix(path.Clean("/"+at), "/")
	if name == "" || strings.HasSuffix(at, "/") || strings.Contains("/"+name, "/.") {
		return nil, nil, fs.ErrNotExist
	}
	root, err := open()
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe that nobody writes to is not waited for
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fs.ErrNotExist
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

// Stands says whether something stands on a shelf, and if not, why.
func Stands(open Open) (why string) {
	root, err := open()
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return "the folder is not there"
		}
		return "the folder cannot be opened"
	}
	defer root.Close()
	dir, err := root.Open(".")
	if err != nil {
		return "the folder cannot be read"
	}
	defer dir.Close()
	if names, _ := dir.Readdirnames(1); len(names) == 0 {
		return "nothing stands in the folder"
	}
	return ""
}
