// Package memo remembers what was worked out.
package memo

import (
	"fmt"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"
)

// Cache remembers answers, the least used of which go first. Who asks for one that is
// being worked out waits for it.
type Cache[K comparable, V any] struct {
	kept   *lru.Cache[K, V]
	flight singleflight.Group
}

// New remembers so many answers at most.
func New[K comparable, V any](most int) *Cache[K, V] {
	kept, err := lru.New[K, V](most)
	if err != nil {
		panic(err) // of a size that is not positive, and ours are constants
	}
	return &Cache[K, V]{kept: kept}
}

// Get returns the answer to a question, made by load where it is not remembered.
func (c *Cache[K, V]) Get(key K, load func() (V, error)) (V, error) {
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

// Put remembers an answer.
func (c *Cache[K, V]) Put(key K, v V) { c.kept.Add(key, v) }

// Look is an answer where it is remembered.
func (c *Cache[K, V]) Look(key K) (v V, there bool) { return c.kept.Get(key) }

// Has reports whether an answer is remembered, and does not count as asking for it.
func (c *Cache[K, V]) Has(key K) bool { return c.kept.Contains(key) }

// Len is how many answers are remembered.
func (c *Cache[K, V]) Len() int { return c.kept.Len() }
