package store

import (
	"sync"

	"ostiarius/core/message"
)

// News is what a transaction may have changed of what others keep in memory, or wait for. What is written here is known here: whoever
// changes an account, a keyring, or what waits says so beside the change (a test holds the changes to that), and nobody who calls a
// function of the store has to think of it.
type News struct {
	Accounts map[int64]bool // who they are, what proves it, or what they may
	Everyone bool           // all accounts
	Keyrings bool           // an entry of a keyring
	Mail     bool           // a message waits to be handed to the mail server
	Told     bool           // a message waits to be told to another program
	Events   bool           // what a shop has told waits to be carried out
}

// subscribers are told the news.
type subscribers struct {
	mu  sync.RWMutex
	all []func(News)
}

// Subscribe has a function called after each transaction that has news, before the function returns that made it. It is called when
// the transaction is committed, and when that is not certain; not when it was rolled back.
func (p *pools) Subscribe(hear func(News)) {
	p.subscribers.mu.Lock()
	defer p.subscribers.mu.Unlock()
	p.subscribers.all = append(p.subscribers.all, hear)
}

func (s *subscribers) publish(n *News) {
	if n == nil || len(n.Accounts) == 0 && !n.Everyone && !n.Keyrings && !n.Mail && !n.Told && !n.Events {
		return
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, hear := range s.all {
		hear(*n)
	}
}

// changed says that an account is not as it was.
func (s speaker) changed(account int64) {
	if s.news.Accounts == nil {
		s.news.Accounts = map[int64]bool{}
	}
	s.news.Accounts[account] = true
}

// waits says that a message is to be handed over.
func (s speaker) waits(way message.Way) {
	if way == message.ByMail {
		s.news.Mail = true
	} else {
		s.news.Told = true
	}
}
