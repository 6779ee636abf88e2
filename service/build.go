package service

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"ostiarius/core/factor"
	"ostiarius/core/looks"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/face/api"
	"ostiarius/service/face/pages"
	"ostiarius/service/listen/access"
	"ostiarius/service/rooms"
	"ostiarius/service/rule/inforce"
	"ostiarius/service/rule/inspect"
)

// build makes the handlers.
func (s *Service) build() {
	s.metrics.read(s.rooms, s.policy, s.hashing.Waiting, func(ctx context.Context) (map[message.State]int, error) {
		return s.store.CountMessages(ctx, message.ByMail)
	})
	administration := administrationOf(s.rooms, s.policy, s.settings.Log)
	administration.Status, administration.Remarks = s.Status, s.settings.Front.Remarks
	administration.Decided = s.decided
	administration.Samples = pages.Samples()
	administration.Sample = func(w http.ResponseWriter, page string, in words.Language, l looks.Looks) bool {
		return s.pages.Sample(w, s.policy.Book(), page, in, l)
	}
	bySession, bySocket := administration, administration
	bySession.Actor = func(r *http.Request) string { return guard.TurnOf(r).Visitor.Account }
	bySession.Shuts = true
	marker := session.NewMarker()
	s.pages = pages.New(pages.Options{
		People: s.rooms.People, Sessions: s.rooms.Sessions, Recovery: s.rooms.Recovery, Factors: s.rooms.Factors,
		Keys: s.rooms.AccessKeys, Elsewhere: s.rooms.Elsewhere, Joining: s.rooms.Joining, Leaving: s.rooms.Leaving,
		Shared: s.rooms.Shared, Passes: s.rooms.Passes, Events: s.rooms.Events, SignIn: s.rooms.SignIn, Visitors: s.rooms.Visitors,
		Log:     s.settings.Log,
		Beside:  func(name string) string { return inspect.Beside(name, s.settings.Policy) },
		InPlace: s.inPlace, Lacks: s.policy.Lacks, Mails: s.settings.Mail != nil,
		Mark: func(r *http.Request) string { return marker.Mark(s.pages.MarkOwner(r), time.Now()) },
	})
	bySession.ByKey = func(r *http.Request) bool { return guard.TurnOf(r).Visitor.Factors.Kinds.Has(factor.Key) }
	bySession.ProofAge = func(r *http.Request) time.Duration {
		v := &guard.TurnOf(r).Visitor
		if bySession.ByKey(r) {
			return 0 // a program types no password
		}
		if s.apart.here(r) { // where there are no pages but these
			return v.ProofAge
		}
		owner := s.pages.MarkOwner(r)
		if owner == "" {
			return session.Unknown
		}
		return marker.Age(r.Header.Get(api.ProofField), owner, time.Now())
	}
	bySession.Origins = s.origins
	if s.apart.name == "" { // else the cookie is not for the site
		bySession.GiveWalk = s.rooms.Visitors.Walks().Give
	}
	bySocket.Actor = func(*http.Request) string { return "command line" }

	own := chi.NewRouter()
	own.Use(middleware.GetHead)
	own.NotFound(s.apart.orConsole(s.pages.Entrance))

	prefix := s.policy.Book().Prefix
	own.Route(prefix, func(r chi.Router) {
		s.pages.Routes(r)
		r.Get("/health", s.health)
		r.Get("/health/live", s.live)
		r.Get("/health/ready", s.readyNow)
		r.Get("/metrics", s.serveMetrics)
		r.Get("/keys", s.keys)
		r.Get("/policy.schema.json", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/schema+json")
			w.Write(read.Schema())
		})
		r.Group(func(r chi.Router) {
			r.Use(s.apart.onlyHere(s.pages.Missing))
			r.Route("/api/v1", bySession.Routes)
			consoleRoutes(r, func(r *http.Request) string {
				v, owner := &guard.TurnOf(r).Visitor, s.pages.MarkOwner(r)
				if owner == "" || bySession.ByKey(r) || v.ProofAge > api.ProofLasts {
					return ""
				}
				return marker.Mark(owner, time.Now().Add(-v.ProofAge))
			})
		})
	})
	crossOrigin := http.NewCrossOriginProtection()
	crossOrigin.AddInsecureBypassPattern("POST " + prefix + "/may") // it changes nothing
	crossOrigin.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, "This request came from another site and was not carried out.", http.StatusForbidden)
	}))
	g := &guard.Guard{
		House:    s.policy.House,
		Who:      s.rooms.Visitors.Who,
		Again:    s.rooms.Visitors.Again,
		Present:  s.rooms.Visitors.Present,
		Unlocked: s.rooms.Visitors.Unlocked,
		Walking:  s.rooms.Visitors.Walks().Walking,
		UsedUp:   s.pages.UsedUp,
		Note: func(r *http.Request, t *guard.Turn, outcome policy.Outcome) string {
			if s.access != nil {
				access.Note(r.Context(), t.Visitor.From, t.Visitor.Account, string(outcome), doorOf(t))
			}
			if outcome == policy.Admit && t.Book.IsOwn(t.Place) {
				s.metrics.own.Add(1)
				return "" // the sign-in page and its sisters are for everybody
			}
			if t.Walk != nil {
				return "" // who walks is recorded once, and is nobody who was turned away
			}
			if !s.rooms.Walks.Marked(r.UserAgent()) { // a patrol is no visitor, also where it comes as a stranger
				s.decided.Note(outcome, t.Door, t.Place, t.Visitor)
				s.rooms.Activity.Count(outcome, t.Door)
			}
			return s.rooms.Activity.Note(outcome, t.Door, t.Place, &t.Visitor, s.policy.Version())
		},
		Took: func(d time.Duration) { s.metrics.judging.Observe(d.Seconds()) },
		Own:  s.pages.Quickly(prefix, crossOrigin.Handler(own)),
		Turned: func(w http.ResponseWriter, r *http.Request, away *guard.TurnedAway) {
			if !s.policy.RefuseWorker(w, r, away.Turn) && !s.policy.Hidden(w, r, away) && !s.pages.Preflight(w, r, away) {
				s.pages.Turned(w, r, away)
			}
		},
		Unable: s.pages.Unable,
		Front:  s.settings.Front,
		Apart:  s.apart.here,

		BodyIdle: s.settings.BodyIdle,
		Bodies:   throttle.NewBound(s.connections()/shareOfBodies, s.connections()/shareOfBodies/shareOfNetwork),
	}
	s.beside = &guard.Beside{Guard: g, At: prefix + "/decide", Target: s.settings.Beside, Sign: s.signer.Sign}
	s.handler, s.guard = onlyClear(strict(s.settings.HSTS, s.settings.Front.Secure, s.meant, s.beside)), g
	if s.access != nil {
		s.handler = s.access.Around(s.handler)
	}

	s.admin = bySocketAlone(&bySocket)
}

// administrationOf returns what administers rooms and a policy.
func administrationOf(r *rooms.Rooms, p *inforce.Policy, log *slog.Logger) api.API {
	return api.API{Rooms: r, Policy: p, Now: time.Now, Log: log}
}

// bySocketAlone is the administration for whoever may open the socket.
func bySocketAlone(a *api.API) http.Handler {
	admin := chi.NewRouter()
	admin.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.URL.RawPath = "" // names stand in the path decoded
			next.ServeHTTP(w, r)
		})
	})
	admin.Route("/api/v1", a.Routes)
	return admin
}

// keys gives out the keys by which servers behind check who is calling.
func (s *Service) keys(w http.ResponseWriter, r *http.Request) {
	set, err := s.signer.Keys()
	if err != nil {
		http.Error(w, "The keys cannot be made at the moment.", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "application/jwk-set+json")
	w.Header().Set("Cache-Control", "public, max-age=300")
	json.NewEncoder(w).Encode(set)
}
