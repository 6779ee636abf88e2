package account

// A Proven is something that was made by what proved who the owner of an account is.
type Proven string

// What is made by proofs.
const (
	Session        Proven = "session"
	HalfSignIn     Proven = "half-finished sign-in"
	PasswordLink   Proven = "link to choose a password"
	AddressRequest Proven = "request for another address"
	AddressUndo    Proven = "link that takes a change of address back"
	DeviceMark     Proven = "mark of a browser"
	Remembered     Proven = "browser that is not asked for a second factor"
	CodeSetUp      Proven = "one-time codes that are being set up"
	CodeProof      Proven = "code shown in a session"
	AccessKey      Proven = "access key"
)

// AllProven lists them.
var AllProven = []Proven{Session, HalfSignIn, PasswordLink, AddressRequest, AddressUndo, DeviceMark, Remembered, CodeSetUp, CodeProof,
	AccessKey}

// An End is something that ends proofs of an account.
type End string

// What ends proofs.
const (
	NewPassword   End = "a new password"
	Disabled      End = "disabling"
	Removed       End = "removal"
	FactorRemoved End = "removing a factor"
	FactorsReset  End = "a reset of factors"
	Unlinked      End = "unlinking a provider"
	SessionsEnded End = "ending all sessions"
	AddressUndone End = "taking a change of address back"
)

// EndedBy says what ends what. Everything that was begun with the proofs of an account ends with any of them. Three things differ:
// sessions survive what concerns one factor only, though not what was shown with it; the link by which an owner takes a change of
// address back is theirs whatever somebody else does to the account; and access keys belong to programs, so they end with the account.
var EndedBy = map[End][]Proven{
	NewPassword:   {Session, HalfSignIn, PasswordLink, AddressRequest, DeviceMark, Remembered, CodeSetUp, CodeProof},
	Disabled:      {Session, HalfSignIn, PasswordLink, AddressRequest, AddressUndo, DeviceMark, Remembered, CodeSetUp, CodeProof, AccessKey},
	Removed:       {Session, HalfSignIn, PasswordLink, AddressRequest, AddressUndo, DeviceMark, Remembered, CodeSetUp, CodeProof, AccessKey},
	FactorRemoved: {HalfSignIn, PasswordLink, AddressRequest, DeviceMark, Remembered, CodeSetUp, CodeProof},
	FactorsReset:  {Session, HalfSignIn, PasswordLink, AddressRequest, DeviceMark, Remembered, CodeSetUp, CodeProof},
	Unlinked:      {HalfSignIn, PasswordLink, AddressRequest, DeviceMark, Remembered, CodeSetUp},
	SessionsEnded: {Session, HalfSignIn, PasswordLink, AddressRequest, DeviceMark, Remembered, CodeSetUp, CodeProof},
	AddressUndone: {Session, HalfSignIn, PasswordLink, AddressRequest, AddressUndo, DeviceMark, Remembered, CodeSetUp, CodeProof},
}
