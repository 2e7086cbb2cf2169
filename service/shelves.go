package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"patientlantern.example/lantern/api"
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
	list, err := s.store.Shelves(ctx)
	if err != nil {
		return err
	}
	s.shelves.all = map[string]store.Shelf{}
	for _, x := range list {
		s.shelves.all[x.Name] = x
	}
	return nil
}

func (s *Service) shelfRoutes(a huma.API) {
	huma.Register(a, operation("list-shelves", http.MethodGet, "/api/shelves", "Folders that hosts are served"), s.listShelves)
	huma.Register(a, operation("add-shelf", http.MethodPost, "/api/shelves", "Serve a folder to hosts"), s.addShelf)
	huma.Register(a, operation("remove-shelf", http.MethodDelete, "/api/shelves/{name}", "Serve a folder no more"), s.removeShelf)
}

// openShelf opens the folder of a shelf. No link leads out of the folder of all shelves.
func (s *Service) openShelf(folder string) shelf.Open {
	return func() (*os.Root, error) {
		all, err := os.OpenRoot(s.opts.Shelves)
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

func (s *Service) listShelves(context.Context, *struct{}) (*body[api.ShelfList], error) {
	s.shelves.RLock()
	list := slices.Collect(maps.Values(s.shelves.all))
	s.shelves.RUnlock()
	slices.SortFunc(list, func(a, b store.Shelf) int { return cmp.Compare(a.Name, b.Name) })
	out := api.ShelfList{Shelves: []api.Shelf{}, Total: len(list)}
	for _, x := range list {
		out.Shelves = append(out.Shelves, s.shelfOf(x))
	}
	return &body[api.ShelfList]{out}, nil
}

type shelfIn struct {
	Body api.ShelfOrder
}

// addShelf serves a folder from now on. It need not be there: media come and go.
func (s *Service) addShelf(ctx context.Context, in *shelfIn) (*body[api.Shelf], error) {
	folder, err := s.belowShelves(in.Body.Folder)
	if err != nil {
		return nil, err
	}
	s.shelves.RLock()
	_, is := s.shelves.all[in.Body.Name]
	full := len(s.shelves.all) >= mostShelves
	s.shelves.RUnlock()
	if full && !is {
		return nil, huma.Error409Conflict(fmt.Sprintf("there are %d shelves, which is the most; take one away first", mostShelves))
	}
	by := actorFrom(ctx)
	x := store.Shelf{Name: in.Body.Name, Folder: folder, Author: by.name, Added: s.now()}
	e := s.entry(by, "add-shelf", kindShelf, x.Name)
	e.Why = folder
	c := store.Noted(e)
	c.Then = func() {
		s.shelves.Lock()
		defer s.shelves.Unlock()
		s.shelves.all[x.Name] = x
	}
	if err := s.store.PutShelf(ctx, x, c); err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.Shelf]{s.shelfOf(x)}, nil
}

// belowShelves is a folder's name below that of all shelves, where it is one.
func (s *Service) belowShelves(folder string) (string, error) {
	at := filepath.Clean(folder)
	if filepath.IsAbs(at) {
		rest, err := filepath.Rel(s.opts.Shelves, at)
		if err != nil {
			rest = ".."
		}
		at = rest
	}
	if !filepath.IsLocal(at) || strings.ContainsFunc(at, func(c rune) bool { return c < ' ' }) {
		return "", huma.Error422UnprocessableEntity(fmt.Sprintf(
			"folder: %s is not below %s, and nothing else of this machine is served; put it there, or start the service with --shelves",
			short(folder), s.opts.Shelves))
	}
	if strings.Contains("/"+filepath.ToSlash(at), "/.") && at != "." {
		return "", huma.Error422UnprocessableEntity("folder: nothing whose name begins with a dot is served")
	}
	return at, nil
}

type shelfPath struct {
	Name string `path:"name" maxLength:"63"`
}

// removeShelf serves a folder no more. What stands in it stays.
func (s *Service) removeShelf(ctx context.Context, in *shelfPath) (*struct{}, error) {
	c := store.Noted(s.entry(actorFrom(ctx), "remove-shelf", kindShelf, in.Name))
	c.Then = func() {
		s.shelves.Lock()
		defer s.shelves.Unlock()
		delete(s.shelves.all, in.Name)
	}
	err := s.store.RemoveShelf(ctx, in.Name, c)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error404NotFound(fmt.Sprintf("there is no shelf %q; lantern shelf list shows all", short(in.Name)))
	}
	if err != nil {
		return nil, s.refuse(err)
	}
	return nil, nil
}

// serveShelf answers hosts that ask for what stands on a shelf.
func (s *Service) serveShelf(w http.ResponseWriter, r *http.Request) {
	s.shelves.RLock()
	x, is := s.shelves.all[chi.URLParam(r, "name")]
	s.shelves.RUnlock()
	if !is {
		http.Error(w, "there is no such shelf", http.StatusNotFound)
		return
	}
	http.StripPrefix("/shelf/"+x.Name, shelf.Handler(s.openShelf(x.Folder))).ServeHTTP(w, r)
}
