package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"ostiarius/client"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/mistake"
	"ostiarius/service/base/problem"
	"ostiarius/service/door/visitor"
	"ostiarius/store"
)

// A Caller is a request to carry out an operation, and who sends it.
type Caller struct {
	context.Context
	Actor   string // for the activity
	Request *http.Request
	Header  http.Header // of the answer
}

// A carrier carries out an operation. It answers itself.
type carrier struct {
	*client.Operation
	serve func(a *API, w http.ResponseWriter, r *http.Request) error
}

// What carries out each operation. Each file of this package adds what it has with On, Do and Write, before any API is opened.
var carriers []carrier

// On says what carries out an operation. What it returns is the answer; an error is answered as a problem.
func On[In, Out any](op client.Call[In, Out], carry func(a *API, by Caller, in In) (Out, error)) {
	Write(op, func(a *API, by Caller, in In, w http.ResponseWriter) error {
		out, err := carry(a, by, in)
		if err != nil {
			return err
		}
		w.Header().Set("Content-Type", op.Media)
		w.Header().Set("Cache-Control", "private, no-store")
		w.WriteHeader(op.Status)
		return json.NewEncoder(w).Encode(out)
	})
}

// Do is On for an operation that returns nothing.
func Do[In any](op client.Call[In, client.None], carry func(a *API, by Caller, in In) error) {
	Write(op, func(a *API, by Caller, in In, w http.ResponseWriter) error {
		err := carry(a, by, in)
		if err == nil {
			w.WriteHeader(op.Status)
		}
		return err
	})
}

// Write is On for an operation whose answer isn't JSON, or is long: carry writes it, or returns an error before it has written anything.
func Write[In, Out any](op client.Call[In, Out], carry func(a *API, by Caller, in In, w http.ResponseWriter) error) {
	carriers = append(carriers, carrier{op.Operation, func(a *API, w http.ResponseWriter, r *http.Request) error {
		var in In
		if err := op.Decode(w, r, func(name string) string { return strings.TrimSpace(chi.URLParam(r, name)) }, &in); err != nil {
			return err
		}
		return carry(a, Caller{Context: r.Context(), Actor: a.Actor(r), Request: r, Header: w.Header()}, in, w)
	}})
}

// Routes adds the API's routes to r.
func (a *API) Routes(r chi.Router) {
	a.checked, a.surveyor = &lastCheck{}, &surveyor{}
	r.Use(a.onlyMeant)
	for _, c := range carriers {
		to := r
		if c.Proof {
			to = r.With(a.fresh)
		}
		to.MethodFunc(c.Method, c.Path, func(w http.ResponseWriter, r *http.Request) {
			if err := c.serve(a, w, r); err != nil {
				a.fail(w, err)
			}
		})
	}
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		problem.Write(w, *refuse(http.StatusNotFound, "The API has nothing at this address."))
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		problem.Write(w, *refuse(http.StatusMethodNotAllowed, "The API does not have this method at this address."))
	})
}

// refuse is an error that is answered with a status.
func refuse(status int, detail string) *client.Problem {
	return &client.Problem{Status: status, Detail: detail}
}

// unprocessable is an error that is answered as a mistake in what was asked for.
func unprocessable(err error) *client.Problem {
	return refuse(http.StatusUnprocessableEntity, err.Error())
}

// fail answers an error.
func (a *API) fail(w http.ResponseWriter, err error) {
	var said *client.Problem
	if errors.As(err, &said) {
		problem.Write(w, *said)
		return
	}
	var wrong *mistake.Error
	if errors.As(err, &wrong) {
		problem.Write(w, *refuse(map[string]int{
			"unknown": http.StatusNotFound, "taken": http.StatusConflict, "invalid": http.StatusUnprocessableEntity,
		}[wrong.Kind], wrong.Text))
		return
	}
	var unwritten *ending.Unwritten
	if errors.As(err, &unwritten) {
		a.Log.Error("a change could not be written down yet", "error", err)
		problem.Write(w, *refuse(http.StatusServiceUnavailable, unwritten.Error()))
		return
	}
	if later := visitor.Later(err); later != nil {
		w.Header().Set("Retry-After", strconv.Itoa(int(later.Wait.Seconds())))
		problem.Write(w, *refuse(later.Status, later.Text))
		return
	}
	if errors.Is(err, store.ErrBusy) {
		w.Header().Set("Retry-After", "2")
		problem.Write(w, *refuse(http.StatusServiceUnavailable,
			"The records do not answer in time, and nothing was changed. Please try again in a moment."))
		return
	}
	a.Log.Error("request of the API failed", "error", err)
	problem.Write(w, *refuse(http.StatusInternalServerError, "The service failed; its log says why."))
}
