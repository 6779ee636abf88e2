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
	JoinAsked            Kind = "join asked"    // an account, by somebody who has none; Detail says where it stands
	Joined               Kind = "joined"        // by themselves; Detail says how
	JoinDeclined         Kind = "join declined" // by a steward
	Invited              Kind = "invited"       // whom, and as what, says Detail
	InvitationRevoked    Kind = "invitation revoked"
	LeaveAsked           Kind = "leave asked" // by its owner: that the account is deleted, after some time
	LeaveWithdrawn       Kind = "leave withdrawn"
	RoleGranted          Kind = "role granted"
	RoleRevoked          Kind = "role revoked"
	PasswordSet          Kind = "password set"     // by a steward, or with a link
	PasswordChanged      Kind = "password changed" // by its owner
	PasswordChangeFailed Kind = "password change failed"
	RecoveryAsked        Kind = "recovery asked" // by somebody who forgot a password; Detail says what became of it
	AddressAsked         Kind = "address asked"  // that another one counts; a link was sent there
	AddressProven        Kind = "address proven"
	AddressUndone        Kind = "address undone"
	LinkMade             Kind = "link made" // to set a password

	FactorAdded       Kind = "factor added" // to an account, which Detail names: a passkey, one-time codes, codes to keep
	FactorRemoved     Kind = "factor removed"
	FactorFailed      Kind = "factor failed"      // a wrong code, or a passkey that does not count; Detail says why
	PasskeyCopied     Kind = "passkey copied"     // its count has not grown: there may be a copy of it
	KeptCodeUsed      Kind = "kept code used"     // one of those for when the app is lost; Detail says how many are left
	ResetAsked        Kind = "factor reset asked" // by a steward; Detail says until when it waits
	ResetDropped      Kind = "factor reset dropped"
	FactorsReset      Kind = "factors reset"      // all that the owner could show beside the password is gone
	BrowserRemembered Kind = "browser remembered" // in which a second factor was shown
	BrowserForgotten  Kind = "browser forgotten"

	ElsewhereFailed  Kind = "sign-in elsewhere failed" // at a provider, or with what it said; Detail says why
	ElsewhereAdded   Kind = "account elsewhere linked"
	ElsewhereRemoved Kind = "account elsewhere unlinked"

	KeyMade    Kind = "access key made" // for Account; Detail has its name
	KeyRemoved Kind = "access key removed"

	CredentialsAdded   Kind = "credentials added" // to a keyring, which Detail names
	CredentialsChanged Kind = "credentials changed"
	CredentialsRemoved Kind = "credentials removed"

	Unlocked        Kind = "unlocked"      // with a shared password, which Detail names
	UnlockFailed    Kind = "unlock failed" // likewise
	UnlockEnded     Kind = "unlock ended"  // one, or all of a shared password
	SharedSet       Kind = "shared password set"
	SharedWithdrawn Kind = "shared password withdrawn"
	SharedTold      Kind = "shared password told" // to how many, says Detail

	PassIssued     Kind = "pass issued" // Account is whom it is for, Detail says which
	PassOpened     Kind = "pass opened" // with its link, in a browser
	PassFailed     Kind = "pass failed" // a wrong name or password; Detail says where
	PassDownloaded Kind = "pass downloaded"
	PassUsedUp     Kind = "pass used up"
	PassSpread     Kind = "pass spread" // used from more networks than its kind allows
	PassPaused     Kind = "pass paused"
	PassResumed    Kind = "pass resumed"
	PassRenewed    Kind = "pass renewed"
	PassRotated    Kind = "pass rotated" // it has other credentials, or all of a kind have
	PassRevoked    Kind = "pass revoked"

	MessageFailed  Kind = "message failed"  // to Account: given up, Detail says why
	MessageRetried Kind = "message retried" // by a steward
	MessageDropped Kind = "message dropped"
	MessageShown   Kind = "message shown" // its link, to a steward who passes it on
	MessageTest    Kind = "test message"

	EventCarried  Kind = "event carried out" // of a shop; Account is who ordered, Detail says what
	EventKept     Kind = "event kept"        // it could not be carried out; Detail says why
	EventRefused  Kind = "event refused"     // it was not signed rightly, or could not be read
	EventRetried  Kind = "event retried"     // by a steward
	EventDropped  Kind = "event dropped"
	SecretAdded   Kind = "secret added" // with which a shop signs
	SecretRemoved Kind = "secret removed"
	Claimed       Kind = "claimed"      // what was bought, with a link that was sent to the buyer
	Reminded      Kind = "reminded"     // of an end; Detail says of which
	TargetAdded   Kind = "target added" // a program that is told what happens
	TargetRemoved Kind = "target removed"

	MembershipBegun Kind = "membership begun" // somebody has a role
	MembershipEnded Kind = "membership ended"
	GuaranteeBroken Kind = "guarantee broken" // by a version of the policy that was not taken

	PolicyApplied   Kind = "policy applied"   // Detail is the comment
	RecordsRestored Kind = "records restored" // from a backup; Detail says of when

	WalkBegun Kind = "walk begun" // through the site as somebody else; Detail says as whom
	WalkEnded Kind = "walk ended"

	PatrolMade      Kind = "patrol made"      // Detail says what it has found
	FindingAccepted Kind = "finding accepted" // of a patrol, by somebody who lives with it
	FindingRejected Kind = "finding rejected" // so no more

	Refused     Kind = "refused" // at a door; with the Reference that the person was told
	Hidden      Kind = "hidden"  // at a door: told that nothing is there
	MoreRefused Kind = "more refused"
)

// Anybodys are the kinds that somebody can cause who has proven nothing, or nothing new: as often as they like, but for what slows them.
// Where too much is recorded, these go first.
var Anybodys = []Kind{
	SignInFailed, SignInSlowed, ProofFailed, PasswordChangeFailed, FactorFailed, ElsewhereFailed, JoinAsked, RecoveryAsked, UnlockFailed,
	PassFailed, EventRefused, Refused, Hidden, MoreRefused,
}

// Kinds are all kinds.
var Kinds = []Kind{
	SignIn, SignInFailed, SignInSlowed, SignOut, ProvenAgain, ProofFailed, SessionEnded, SessionsDone,
	AccountAdded, AccountChanged, AccountRemoved, AccountEnabled, AccountDisabled, JoinAsked, Joined, JoinDeclined, Invited,
	InvitationRevoked, LeaveAsked, LeaveWithdrawn, RoleGranted, RoleRevoked, PasswordSet, PasswordChanged, PasswordChangeFailed,
	RecoveryAsked, AddressAsked, AddressProven, AddressUndone, LinkMade,
	FactorAdded, FactorRemoved, FactorFailed, PasskeyCopied, KeptCodeUsed, ResetAsked, ResetDropped, FactorsReset, BrowserRemembered,
	BrowserForgotten, KeyMade, KeyRemoved, ElsewhereFailed, ElsewhereAdded, ElsewhereRemoved,
	CredentialsAdded, CredentialsChanged, CredentialsRemoved,
	Unlocked, UnlockFailed, UnlockEnded, SharedSet, SharedWithdrawn, SharedTold, PassIssued, PassOpened, PassFailed, PassDownloaded,
	PassUsedUp, PassSpread, PassPaused, PassResumed, PassRenewed, PassRotated, PassRevoked,
	EventCarried, EventKept, EventRefused, EventRetried, EventDropped, SecretAdded, SecretRemoved, Claimed, Reminded, MembershipBegun,
	MembershipEnded, GuaranteeBroken, TargetAdded, TargetRemoved,
	MessageFailed, MessageRetried, MessageDropped, MessageShown, MessageTest, PolicyApplied, RecordsRestored, WalkBegun, WalkEnded,
	PatrolMade, FindingAccepted, FindingRejected, Refused, Hidden, MoreRefused,
}
