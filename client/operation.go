package client

import (
	"context"
	"net/http"
	"reflect"
	"slices"
)

// An Operation is one thing that the API can be asked to do. It is declared once, with Get, Post, Put, Patch or Delete, beside the
// types that it takes and returns. The router of the service, the published description, the calls of this package, and the types
// and calls of the console are all made from it.
type Operation struct {
	Method, Path string // below the API's own path; {name} is filled with the field of In that has the tag `path:"name"`
	Under        string // the path that it is below instead, if it is no administration
	Summary      string // what it does, in one line
	Proof        bool   // the password must have been entered recently: it changes something, or hands out hashes
	AtRest       bool   // it only reads records, so it's answered where no service runs, too
	Status       int    // of the answer
	Fails        []int  // the statuses of the problems that can be answered instead
	MaxBody      int64  // in bytes
	Media        string // the media type of the answer
	Cached       bool   // the answer may be that it is as it was (RFC 9110, section 15.4.5)
	Paged        bool   // a field Link of the answer may lead to the next part (RFC 8288)
	In, Out      reflect.Type
}

// None is what an operation takes or returns that takes or returns nothing.
type None struct{}

// A File is an answer that isn't JSON, as it is.
type File []byte

// An Option says something more about an operation.
type Option func(*Operation)

// Fails names the statuses of problems.
func Fails(statuses ...int) Option { return func(o *Operation) { o.Fails = statuses } }

// MaxBody sets how long the body of a request may be, in bytes.
func MaxBody(n int64) Option { return func(o *Operation) { o.MaxBody = n } }

// Under names the path that an operation is below, if that isn't the API's.
func Under(path string) Option { return func(o *Operation) { o.Under, o.Proof = path, false } }

// Media names the media type of the answer.
func Media(kind string) Option { return func(o *Operation) { o.Media = kind } }

// AtRest says that an operation only reads records.
func AtRest(o *Operation) { o.AtRest = true }

// Created says that the answer has the status 201.
func Created(o *Operation) { o.Status = http.StatusCreated }

// Cached says that a client may ask whether something is as it was.
func Cached(o *Operation) { o.Cached = true }

// Paged says that an answer may be a part.
func Paged(o *Operation) { o.Paged = true }

// Holds says what is in the file that is answered, where that is JSON.
func Holds[T any](o *Operation) { o.Out = reflect.TypeFor[T]() }

// Harmless says of an operation with a body that it changes nothing.
func Harmless(o *Operation) { o.Proof = false }

// Proof says of an operation that changes nothing that it asks for a recent proof all the same.
func Proof(o *Operation) { o.Proof = true }

// A Call is an operation with its types: In has what is sent (see the tags in wire.go), Out is what comes back.
type Call[In, Out any] struct{ *Operation }

var operations []*Operation

// Operations returns all operations that were declared, in the order of their paths.
func Operations() []*Operation {
	return slices.SortedStableFunc(slices.Values(operations), func(a, b *Operation) int { return slices.Compare(a.sorts(), b.sorts()) })
}

func (o *Operation) sorts() []string { return []string{o.Under, o.Path} }

func declare[In, Out any](method, path, summary string, options []Option) Call[In, Out] {
	o := &Operation{
		Method: method, Path: path, Summary: summary, Proof: method != http.MethodGet, Status: http.StatusOK, MaxBody: 64 << 10,
		Media: "application/json", In: reflect.TypeFor[In](), Out: reflect.TypeFor[Out](),
	}
	if o.Out == reflect.TypeFor[None]() {
		o.Status, o.Out, o.Media = http.StatusNoContent, nil, ""
	}
	for _, option := range options {
		option(o)
	}
	operations = append(operations, o)
	return Call[In, Out]{o}
}

// Get declares what only looks.
func Get[In, Out any](path, summary string, options ...Option) Call[In, Out] {
	return declare[In, Out](http.MethodGet, path, summary, options)
}

// Post declares what makes or does something.
func Post[In, Out any](path, summary string, options ...Option) Call[In, Out] {
	return declare[In, Out](http.MethodPost, path, summary, options)
}

// Put declares what sets something.
func Put[In, Out any](path, summary string, options ...Option) Call[In, Out] {
	return declare[In, Out](http.MethodPut, path, summary, options)
}

// Patch declares what changes a part of something.
func Patch[In, Out any](path, summary string, options ...Option) Call[In, Out] {
	return declare[In, Out](http.MethodPatch, path, summary, options)
}

// Delete declares what removes or ends something.
func Delete[In, Out any](path, summary string, options ...Option) Call[In, Out] {
	return declare[In, Out](http.MethodDelete, path, summary, options)
}

// Ask carries out the operation and returns what comes back. The error is a *Problem if the service answered with one.
func (c Call[In, Out]) Ask(ctx context.Context, at *Client, in In) (out Out, err error) {
	_, err = at.ask(ctx, c.Operation, in, &out)
	return out, err
}

// Do is Ask for an operation that returns nothing of interest.
func (c Call[In, Out]) Do(ctx context.Context, at *Client, in In) error {
	_, err := c.Ask(ctx, at, in)
	return err
}

// Things are often named by one value in the path.
type (
	// ByName names something by its name.
	ByName struct {
		Name string `json:"-" path:"name"`
	}
	// ByID names something by the letters and digits that it was given.
	ByID struct {
		ID string `json:"-" path:"id"`
	}
	// ByNumber names something by its number.
	ByNumber struct {
		ID int64 `json:"-" path:"id"`
	}
	// ByHandle names something secret by a handle that isn't.
	ByHandle struct {
		Handle string `json:"-" path:"handle"`
	}
)

// Ended is how many have ended.
type Ended struct {
	Ended int64 `json:"ended"`
}
