package policy

import (
	"time"

	"ostiarius/core/document"
	"ostiarius/core/place"
)

// A Source is what stands behind the places below (host, path): a directory of files or
// a proxied server. One of Files and Proxy is set.
type Source struct {
	Host  place.Host
	Path  string // canonical
	Files string // a directory, relative to the policy file
	Proxy string // the address of a server, http://HOST:PORT or unix:PATH
	// StripPrefix leaves Path out of the path that the proxied server receives.
	StripPrefix bool
	Timeout     time.Duration // how long the server may take to begin its answer; 0 for the default
	// Fields are the header fields that the server gets although they are usually not handed on,
	// see package fields.
	Fields []string
	// Attachment are the endings of the names of files that browsers save instead of showing, in small letters.
	Attachment []string
	// Cache is how long caches may keep the files that are public; 0 for as long as they guess.
	Cache time.Duration
	// Fallback is the file that answers for routes of an application that are no files; "" for none.
	Fallback string
	// Listing says that a directory without an index.html shows what is in it.
	Listing bool
	// Shell says that everybody may have that file, also at routes that are closed to them.
	Shell bool
	// Routes are those of an application and the addresses of their data, to be compared; RoutesFile is a file that has them.
	Routes     []Route
	RoutesFile string
	// Identity is the audience for which it is signed who is calling; "" for not at all.
	Identity string
	// Personal says that public pages of a server behind depend on who is signed in: PersonalVary or PersonalPrivate; "" if they do not.
	Personal string
	// ServiceWorker says that scripts of this source may be service workers also of Ostiarius's own
	// pages.
	ServiceWorker bool
	document.Position
}

// How caches are told that a public page depends on who is signed in: that it varies, and also that what somebody gets who is known
// is theirs alone.
const (
	PersonalVary    = "vary"
	PersonalPrivate = "private"
)

// SourceOf returns the source behind a place: the one with the longest path around it,
// one for the very host before one for any. It returns nil if there is none.
func (b *Book) SourceOf(p place.Place) *Source {
	var best *Source
	for i := range b.Sources {
		s := &b.Sources[i]
		if !s.Host.Covers(p.Host) || !Below(p.Path, s.Path) {
			continue
		}
		if best == nil || len(s.Path) > len(best.Path) ||
			len(s.Path) == len(best.Path) && len(s.Host.String()) > len(best.Host.String()) {
			best = s
		}
	}
	return best
}
