// Package activity names what can happen, as it is recorded.
package activity

// A Kind is a kind of what happened, in the words in which it is recorded, shown and searched.
type Kind string

const (
	SignIn       Kind = "sign-in"        // somebody signed in; Detail says how, if not with the form
	SignInFailed Kind = "sign-in failed" // Detail says why; no Account if there is none of that name
	SignInSlowed Kind = "sign-in slowed" // too many tries; Detail says when the next is taken
	SignOut      Kind = "sign-out"
	ProvenAgain  Kind = "proven again" // the password was typed once more
	ProofFailed  Kind = "proof failed"
	SessionEnded Kind = "session ended"
	SessionsDone Kind = "sessions ended" // all of an account, or of everybody

	AccountAdded         Kind = "account added"
	AccountChanged       Kind = "account changed"
	AccountRemoved       Kind = "account removed"
	AccountEnabled       Kind = "account enabled"
	AccountDisabled      Kind = "account disabled"
	RoleGranted          Kind = "role granted"
	RoleRevoked          Kind = "role revoked"
	PasswordSet          Kind = "password set"     // by a steward, or with a link
	PasswordChanged      Kind = "password changed" // by its owner
	PasswordChangeFailed Kind = "password change failed"
	LinkMade             Kind = "link made" // to set a password

	CredentialsAdded   Kind = "credentials added" // to a keyring, which Detail names
	CredentialsChanged Kind = "credentials changed"
	CredentialsRemoved Kind = "credentials removed"

	PolicyApplied Kind = "policy applied" // Detail is the comment

	Refused     Kind = "refused" // at a door; with the Reference that the person was told
	Hidden      Kind = "hidden"  // at a door: told that nothing is there
	MoreRefused Kind = "more refused"
)

// Kinds are all kinds.
var Kinds = []Kind{
	SignIn, SignInFailed, SignInSlowed, SignOut, ProvenAgain, ProofFailed, SessionEnded, SessionsDone,
	AccountAdded, AccountChanged, AccountRemoved, AccountEnabled, AccountDisabled, RoleGranted, RoleRevoked, PasswordSet, PasswordChanged, PasswordChangeFailed, LinkMade,
	CredentialsAdded, CredentialsChanged, CredentialsRemoved, PolicyApplied, Refused, Hidden, MoreRefused,
}
