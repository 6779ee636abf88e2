package service

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
	"ostiarius/service/pages"
	"ostiarius/service/source"
)

// load reads the policy file and opens the sources behind it. There is no House if
// anything is wrong.
func (s *Service) load() (*guard.House, []policy.Finding, []byte) {
	text, err := os.ReadFile(s.settings.Policy)
	if err != nil {
		return nil, []policy.Finding{{Severity: policy.Error, Rule: "no-file", Message: "the policy file cannot be read: " + err.Error(), File: s.settings.Policy}}, nil
	}
	book, findings := policy.Parse(s.settings.Policy, text)
	if book == nil {
		return nil, findings, text
	}
	findings = append(findings, source.Check(book, s.settings.Policy)...)
	if policy.HasErrors(findings) {
		return nil, findings, text
	}
	site := &site{book: book, handlers: map[*policy.Source]http.Handler{}, missing: http.HandlerFunc(s.pages.Missing)}
	for i := range book.Sources {
		entry := &book.Sources[i]
		var handler http.Handler
		var err error
		if entry.Proxy != "" {
			handler, err = source.NewProxy(entry.Proxy, s.settings.Log, pages.CookieName(true), pages.CookieName(false))
		} else {
			handler, err = source.NewFiles(source.Directory(*entry, s.settings.Policy), entry.Path, site.missing)
		}
		if err != nil {
			return nil, append(findings, policy.Finding{Severity: policy.Error, Rule: "no-source", Message: err.Error(), File: s.settings.Policy, Line: entry.Line, Column: entry.Column}), text
		}
		site.handlers[entry] = handler
	}
	return &guard.House{Book: book, Site: site}, findings, text
}

// A site is the sources of one Book.
type site struct {
	book     *policy.Book
	handlers map[*policy.Source]http.Handler
	missing  http.Handler
}

func (s *site) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	entry := s.book.SourceOf(guard.TurnOf(r).Decision.Place)
	if handler := s.handlers[entry]; handler != nil {
		handler.ServeHTTP(w, r)
		return
	}
	s.missing.ServeHTTP(w, r)
}

// watch takes each new version of the policy file that is free of errors. A faulty one is
// reported, and the old one stays in force.
func (s *Service) watch(ctx context.Context) {
	watcher, err := fsnotify.NewWatcher()
	if err == nil {
		defer watcher.Close()
		// The directory, since many editors replace the file.
		err = watcher.Add(filepath.Dir(s.settings.Policy))
	}
	if err != nil {
		s.settings.Log.Warn("changes of the policy file are not noticed; restart the service after a change", "error", err)
		<-ctx.Done()
		return
	}
	settle := time.NewTimer(time.Hour)
	settle.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-watcher.Events:
			if filepath.Clean(e.Name) == filepath.Clean(s.settings.Policy) && !e.Has(fsnotify.Chmod) {
				settle.Reset(100 * time.Millisecond) // editors write in several steps
			}
		case err := <-watcher.Errors:
			s.settings.Log.Warn("watching the policy file", "error", err)
		case <-settle.C:
			s.reload()
		}
	}
}

func (s *Service) reload() {
	house, findings, _ := s.load()
	if house != nil && house.Book.Prefix != s.Book().Prefix {
		house = nil
		findings = append(findings, policy.Finding{Severity: policy.Error, Rule: "prefix-changed", Message: "the prefix of Ostiarius's own pages changes only when the service is started again", File: s.settings.Policy})
	}
	if house == nil {
		s.rejected.Store(&findings)
		for _, f := range findings {
			s.settings.Log.Error("the policy file has an error; the version before stays in force", "file", f.File, "line", f.Line, "column", f.Column, "message", f.Message)
		}
		return
	}
	s.rejected.Store(nil)
	s.house.Store(house)
	s.settings.Log.Info("a new version of the policy is in force", "file", s.settings.Policy, "doors", len(house.Book.Doors))
}
