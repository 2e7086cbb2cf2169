package service

import (
	"fmt"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"
)

// cache remembers answers, the least used of which go first. Who asks for one that is
// being worked out waits for it.
type cache[K comparable, V any] struct {
	kept   *lru.Cache[K, V]
	flight singleflight.Group
}

func newCache[K comparable, V any](most int) *cache[K, V] {
	kept, err := lru.New[K, V](most)
	if err != nil {
		panic(err) // of a size that is not positive, and ours are constants
	}
	return &cache[K, V]{kept: kept}
}

// get returns the answer to a question, made by load where it is not remembered.
func (c *cache[K, V]) get(key K, load func() (V, error)) (V, error) {
	if v, ok := c.kept.Get(key); ok {
		return v, nil
	}
	made, err, _ := c.flight.Do(fmt.Sprint(key), func() (any, error) {
		if v, ok := c.kept.Get(key); ok { // made while this one waited
			return v, nil
		}
		v, err := load()
		if err == nil {
			c.kept.Add(key, v)
		}
		return v, err
	})
	if err != nil {
		var none V
		return none, err
	}
	return made.(V), nil
}
