// Package chores says what the rooms of a service do by themselves, and when. A room that has something to do returns it with a method
// Chores, beside what it does.
package chores

import (
	"context"
	"time"
)

// A Chore is done again and again while the service runs, one after the other. What is wrong is reported, and it is done again the
// next time.
type Chore struct {
	Every time.Duration // of a second or more; 0 for only when the service ends
	Do    func(context.Context) error
	// Last says that it is done once more when the service ends, since it writes down what is in memory alone.
	Last bool
	// Sweeps says that it removes what has ended. It is left out while the clock can't be trusted to tell.
	Sweeps bool
}

// Each returns what is done every so often.
func Each(every time.Duration, do func(context.Context) error) Chore {
	return Chore{Every: every, Do: do}
}

// Write returns what writes down what is in memory alone: every so often, and when the service ends.
func Write(every time.Duration, do func(context.Context) error) Chore {
	return Chore{Every: every, Do: do, Last: true}
}

// AtEnd returns what is done when the service ends.
func AtEnd(do func(context.Context) error) Chore { return Chore{Do: do, Last: true} }

// Sweep returns what removes what has ended.
func Sweep(do func(context.Context) error) Chore {
	return Chore{Every: 10 * time.Minute, Do: do, Sweeps: true}
}

// A Room has chores.
type Room interface{ Chores() []Chore }
