package embed

import (
	"net/http"
	"slices"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// Require asks, in a handler behind Guard, for a check that the policy declares:
//
//	checks:
//	  approve: { path: "/orders/*/approve", methods: [POST], admit: { role: trustee } }
//
//	if !doors.Require(w, r, "approve") {
//		return
//	}
//
// It reports whether whoever sends the request meets what the check asks. If not, they have been answered as at a door, and that is
// recorded under the check's name. At the places that the check covers, the guard has asked already, so that the policy says all
// that is asked there; Require asks again wherever the handler is reached. A name that is none of Options.Checks admits nobody.
func (d *Doors) Require(w http.ResponseWriter, r *http.Request, name string) bool {
	t := guard.TurnOf(r)
	if t == nil {
		http.Error(w, "This is not for you.", http.StatusForbidden)
		return false
	}
	var asked []*policy.Door
	if slices.Contains(d.checks, name) {
		asked = policy.ChecksNamed(t.Book, name)
	}
	if len(asked) == 0 {
		d.log.Error("a handler asks for a check that is not declared, so nobody is admitted", "check", name)
		d.service.Guard().TurnAway(w, r, policy.Decision{Outcome: policy.Refuse, Place: t.Place, Door: t.Door})
		return false
	}
	// The paths of one check ask the same.
	decision := t.Book.Judge(t.Place, asked[:1], &t.Visitor)
	if decision.Outcome == policy.Admit {
		return true
	}
	d.service.Guard().TurnAway(w, r, decision)
	return false
}
