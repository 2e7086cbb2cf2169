package upstreams

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/shelf"
	"patientlantern.example/lantern/store"
)

// mostShelves bounds how many shelves there are.
const mostShelves = 100

// shelves are the folders that hosts are served, as they are stored.
type shelves struct {
	sync.RWMutex
	all map[string]store.Shelf
}

func (u *Upstreams) loadShelves(ctx context.Context) error {
	list, err := u.Store.Shelves(ctx)
	if err != nil {
		return err
	}
	u.shelves.all = map[string]store.Shelf{}
	for _, x := range list {
		u.shelves.all[x.Name] = x
	}
	return nil
}

// openShelf opens the folder of a shelf. No link leads out of the folder of all shelves.
func (u *Upstreams) openShelf(folder string) shelf.Open {
	return func() (*os.Root, error) {
		all, err := os.OpenRoot(u.Opts.Shelves)
		if err != nil {
			return nil, err
		}
		defer all.Close()
		return all.OpenRoot(folder)
	}
}

func (u *Upstreams) shelfOf(x store.Shelf) api.Shelf {
	out := api.Shelf{
		Name: x.Name, Folder: x.Folder, Path: "/shelf/" + x.Name + "/", Author: x.Author, Created: x.Added, State: api.ShelfThere,
		Why: shelf.Stands(u.openShelf(x.Folder)),
	}
	if out.Why != "" {
		out.State = api.ShelfAway
	}
	return out
}

// ListShelves lists the folders that hosts are served.
func (u *Upstreams) ListShelves(context.Context, *struct{}) (*api.ShelfList, error) {
	u.shelves.RLock()
	list := slices.Collect(maps.Values(u.shelves.all))
	u.shelves.RUnlock()
	slices.SortFunc(list, func(a, b store.Shelf) int { return cmp.Compare(a.Name, b.Name) })
	out := api.ShelfList{Shelves: []api.Shelf{}, Total: len(list)}
	for _, x := range list {
		out.Shelves = append(out.Shelves, u.shelfOf(x))
	}
	return &out, nil
}

// ShelfIn is a shelf as it is sent.
type ShelfIn struct {
	Body api.ShelfOrder
}

// AddShelf serves a folder from now on. It need not be there: media come and go.
func (u *Upstreams) AddShelf(ctx context.Context, in *ShelfIn) (*api.Shelf, error) {
	folder, err := u.belowShelves(in.Body.Folder)
	if err != nil {
		return nil, err
	}
	u.shelves.RLock()
	_, is := u.shelves.all[in.Body.Name]
	full := len(u.shelves.all) >= mostShelves
	u.shelves.RUnlock()
	if full && !is {
		return nil, refusal.Conflict(fmt.Sprintf("there are %d shelves, which is the most; take one away first", mostShelves))
	}
	by := journal.By(ctx)
	x := store.Shelf{Name: in.Body.Name, Folder: folder, Author: by.Name, Added: u.Now()}
	e := u.Entry(by, "add-shelf", journal.KindShelf, x.Name)
	e.Why = folder
	c := store.Noted(e)
	c.Then = func() {
		u.shelves.Lock()
		defer u.shelves.Unlock()
		u.shelves.all[x.Name] = x
	}
	if err := u.Store.PutShelf(ctx, x, c); err != nil {
		return nil, err
	}
	return new(u.shelfOf(x)), nil
}

// belowShelves is a folder's name below that of all shelves, where it is one.
func (u *Upstreams) belowShelves(folder string) (string, error) {
	at := filepath.Clean(folder)
	if filepath.IsAbs(at) {
		rest, err := filepath.Rel(u.Opts.Shelves, at)
		if err != nil {
			rest = ".."
		}
		at = rest
	}
	if !filepath.IsLocal(at) || strings.ContainsFunc(at, func(c rune) bool { return c < ' ' }) {
		return "", refusal.Wrong(fmt.Sprintf(
			"folder: %s is not below %s, and nothing else of this machine is served; put it there, or start the service with --shelves",
			refusal.Short(folder), u.Opts.Shelves))
	}
	if strings.Contains("/"+filepath.ToSlash(at), "/.") && at != "." {
		return "", refusal.Wrong("folder: nothing whose name begins with a dot is served")
	}
	return at, nil
}

// ShelfPath names a shelf.
type ShelfPath struct {
	Name string `path:"name" maxLength:"63"`
}

// RemoveShelf serves a folder no more. What stands in it stays.
func (u *Upstreams) RemoveShelf(ctx context.Context, in *ShelfPath) error {
	c := store.Noted(u.Entry(journal.By(ctx), "remove-shelf", journal.KindShelf, in.Name))
	c.Then = func() {
		u.shelves.Lock()
		defer u.shelves.Unlock()
		delete(u.shelves.all, in.Name)
	}
	err := u.Store.RemoveShelf(ctx, in.Name, c)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.NotFound(fmt.Sprintf("there is no shelf %q; lantern shelf list shows all", refusal.Short(in.Name)))
	}
	return err
}

// Shelf opens the folder of a shelf, where there is one of that name.
func (u *Upstreams) Shelf(name string) (open shelf.Open, is bool) {
	u.shelves.RLock()
	x, is := u.shelves.all[name]
	u.shelves.RUnlock()
	return u.openShelf(x.Folder), is
}
