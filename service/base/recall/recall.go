// Package recall remembers what the records say about a token, so that they need not be asked with each request. What
// they say wins: whoever changes them calls Forget afterwards, and what was read before that is not kept.
package recall

import (
	"hash/maphash"
	"sync"

	"ostiarius/core/secret"
)

// The most tokens that are remembered; with more, all are forgotten, and read again as they come.
const most = 100_000

// A Memory remembers values of tokens. It may be used by several goroutines.
type Memory[T any] struct {
	mu      sync.RWMutex
	seed    maphash.Seed
	known   map[uint64]entry[T]
	changes uint64
}

type entry[T any] struct {
	token string
	value T
}

// New returns a Memory that knows nothing.
func New[T any]() *Memory[T] {
	return &Memory[T]{seed: maphash.MakeSeed(), known: map[uint64]entry[T]{}}
}

// Get returns what is remembered of a token.
func (m *Memory[T]) Get(token string) (value T, ok bool) {
	key := maphash.String(m.seed, token)
	m.mu.RLock()
	e, ok := m.known[key]
	m.mu.RUnlock()
	if !ok || !secret.Equal(e.token, token) {
		return value, false
	}
	return e.value, true
}

// Version is for Put: it is asked for before the records are read.
func (m *Memory[T]) Version() uint64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.changes
}

// Put remembers a value, unless something has changed since version.
func (m *Memory[T]) Put(version uint64, token string, value T) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if version != m.changes {
		return
	}
	if len(m.known) >= most {
		clear(m.known)
	}
	m.known[maphash.String(m.seed, token)] = entry[T]{token, value}
}

// Forget forgets everything.
func (m *Memory[T]) Forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.changes++
	clear(m.known)
}
