package service

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

func (s *Service) loadShelves(ctx context.Context) error {
	list, err := s.Store.Shelves(ctx)
	if err != nil {
		return err
	}
	s.shelves.all = map[string]store.Shelf{}
	for _, x := range list {
		s.shelves.all[x.Name] = x
	}
	return nil
}

// openShelf opens the folder of a shelf. No link leads out of the folder of all shelves.
func (s *Service) openShelf(folder string) shelf.Open {
	return func() (*os.Root, error) {
		all, err := os.OpenRoot(s.Opts.Shelves)
		if err != nil {
			return nil, err
		}
		defer all.Close()
		return all.OpenRoot(folder)
	}
}

func (s *Service) shelfOf(x store.Shelf) api.Shelf {
	out := api.Shelf{
		Name: x.Name, Folder: x.Folder, Path: "/shelf/" + x.Name + "/", Author: x.Author, Created: x.Added, State: api.ShelfThere,
		Why: shelf.Stands(s.openShelf(x.Folder)),
	}
	if out.Why != "" {
		out.State = api.ShelfAway
	}
	return out
}

// ListShelves lists the folders that hosts are served.
func (s *Service) ListShelves(context.Context, *struct{}) (*api.ShelfList, error) {
	s.shelves.RLock()
	list := slices.Collect(maps.Values(s.shelves.all))
	s.shelves.RUnlock()
	slices.SortFunc(list, func(a, b store.Shelf) int { return cmp.Compare(a.Name, b.Name) })
	out := api.ShelfList{Shelves: []api.Shelf{}, Total: len(list)}
	for _, x := range list {
		out.Shelves = append(out.Shelves, s.shelfOf(x))
	}
	return &out, nil
}

// ShelfIn is a shelf as it is sent.
type ShelfIn struct {
	Body api.ShelfOrder
}

// AddShelf serves a folder from now on. It need not be there: media come and go.
func (s *Service) AddShelf(ctx context.Context, in *ShelfIn) (*api.Shelf, error) {
	folder, err := s.belowShelves(in.Body.Folder)
	if err != nil {
		return nil, err
	}
	s.shelves.RLock()
	_, is := s.shelves.all[in.Body.Name]
	full := len(s.shelves.all) >= mostShelves
	s.shelves.RUnlock()
	if full && !is {
		return nil, refusal.Conflict(fmt.Sprintf("there are %d shelves, which is the most; take one away first", mostShelves))
	}
	by := journal.By(ctx)
	x := store.Shelf{Name: in.Body.Name, Folder: folder, Author: by.Name, Added: s.Now()}
	e := s.Entry(by, "add-shelf", journal.KindShelf, x.Name)
	e.Why = folder
	c := store.Noted(e)
	c.Then = func() {
		s.shelves.Lock()
		defer s.shelves.Unlock()
		s.shelves.all[x.Name] = x
	}
	if err := s.Store.PutShelf(ctx, x, c); err != nil {
		return nil, err
	}
	return new(s.shelfOf(x)), nil
}

// belowShelves is a folder's name below that of all shelves, where it is one.
func (s *Service) belowShelves(folder string) (string, error) {
	at := filepath.Clean(folder)
	if filepath.IsAbs(at) {
		rest, err := filepath.Rel(s.Opts.Shelves, at)
		if err != nil {
			rest = ".."
		}
		at = rest
	}
	if !filepath.IsLocal(at) || strings.ContainsFunc(at, func(c rune) bool { return c < ' ' }) {
		return "", refusal.Wrong(fmt.Sprintf(
			"folder: %s is not below %s, and nothing else of this machine is served; put it there, or start the service with --shelves",
			refusal.Short(folder), s.Opts.Shelves))
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
func (s *Service) RemoveShelf(ctx context.Context, in *ShelfPath) error {
	c := store.Noted(s.Entry(journal.By(ctx), "remove-shelf", journal.KindShelf, in.Name))
	c.Then = func() {
		s.shelves.Lock()
		defer s.shelves.Unlock()
		delete(s.shelves.all, in.Name)
	}
	err := s.Store.RemoveShelf(ctx, in.Name, c)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.NotFound(fmt.Sprintf("there is no shelf %q; lantern shelf list shows all", refusal.Short(in.Name)))
	}
	return err
}

// Shelf opens the folder of a shelf, where there is one of that name.
func (s *Service) Shelf(name string) (open shelf.Open, is bool) {
	s.shelves.RLock()
	x, is := s.shelves.all[name]
	s.shelves.RUnlock()
	return s.openShelf(x.Folder), is
}
