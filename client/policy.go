package client

import (
	"time"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/prove"
)

// What can be asked about the policy and its versions.
var (
	ShowPolicy  = Get[None, Version]("/policy", "The active version, with its text", AtRest)
	ApplyPolicy = Post[Draft, Applied]("/policy", "Make a text the active policy", Created, MaxBody(maxPolicyBody), Fails(409, 422))
	CheckPolicy = Post[Draft, Checked]("/policy/check",
		"What is wrong with a text, whether its guarantees hold, and how it differs from the active policy",
		Harmless, MaxBody(maxPolicyBody))
	EditPolicy = Post[Edits, Edited]("/policy/edit",
		"What edits would make of the active text, and what that opens and closes; nothing is changed", Harmless, Fails(422))
	ReplayPolicy = Post[Draft, Replayed]("/policy/replay",
		"Try a draft on what was decided in the last days; that is kept only if the service was started with --keep-decisions", Harmless,
		MaxBody(maxPolicyBody), Fails(422))
	ListVersions = Get[None, []Version]("/policy/versions", "All versions without their texts, the newest first", AtRest)
	ShowVersion  = Get[ByNumber, Version]("/policy/versions/{id}", "A version with its text", AtRest, Fails(404))
	Rollback     = Post[OlderVersion, Applied]("/policy/versions/{id}/rollback",
		"Make the text of an earlier version active again, as a new version", Created, MaxBody(maxPolicyBody), Fails(404, 422))
)

// The largest body that carries a policy, which JSON may make longer than the file.
const maxPolicyBody = 2*document.MaxSize + 1<<16

// OlderVersion names the version that is to be active again; the text of the draft isn't used.
type OlderVersion struct {
	ID    int64 `json:"-" path:"id"`
	Draft Draft `json:"-" body:""`
}

// Version is one text of the policy that has been in force.
type Version struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Comment string    `json:"comment"`
	Text    string    `json:"text,omitempty"`
}

// Draft is a text of the policy that is to be checked or applied.
type Draft struct {
	Text      string `json:"text,omitempty"`
	Comment   string `json:"comment,omitempty"`
	Base      int64  `json:"base,omitempty"`      // the version that it was made from; 0 for whichever
	NoOpening bool   `json:"noOpening,omitempty"` // apply it only if it opens nothing to anybody
	OverEdit  bool   `json:"overEdit,omitempty"`  // also over an edit of the file that is not in force
}

// Checked is what was found in a draft, and how its doors differ from those in force.
type Checked struct {
	OK       bool               `json:"ok"`
	Findings []document.Finding `json:"findings"`
	Changes  []policy.Change    `json:"changes"`
	Compared Compared           `json:"compared"`
	// The draft's guarantees and whether they hold; none if the draft cannot be read.
	Guarantees []prove.Guarantee `json:"guarantees"`
}

// Compared says what a change opens and closes, or why that could not be proven.
type Compared struct {
	Differences []prove.Difference `json:"differences" null:""`
	Unproven    string             `json:"unproven,omitempty"`
}

// Applied is a version that has come into force, and how its doors differ.
type Applied struct {
	Version  Version         `json:"version"`
	Changes  []policy.Change `json:"changes"`
	Compared Compared        `json:"compared"`
}

// Edit is a change of one thing of the policy's text.
type Edit struct {
	Kind      string      `json:"kind" enum:"door|remove|role|keyring|shared|pass|unlisted|landing|guarantee|remove-guarantee"`
	Path      string      `json:"path,omitempty"`
	Host      string      `json:"host,omitempty"`
	Methods   []string    `json:"methods,omitempty"`
	Terms     *edit.Terms `json:"terms,omitempty"` // of a door; or else:
	Admit     string      `json:"admit,omitempty"` // as in a policy, or for short; of unlisted: its word
	Otherwise string      `json:"otherwise,omitempty"`
	// of a role, a keyring, a shared password or a kind of pass that is declared
	Name string `json:"name,omitempty"`
	// of a shared password or a kind of pass: what it opens, for people
	Title   string `json:"title,omitempty"`
	Lasts   string `json:"lasts,omitempty"`                                           // likewise: such as 7d, or forever
	Realm   string `json:"realm,omitempty"`                                           // of a keyring
	On      string `json:"on,omitempty" enum:"sign-in|sign-out|join|password-change"` // of a landing
	Role    string `json:"role,omitempty"`                                            // of a landing: who is sent there; or
	User    string `json:"user,omitempty"`                                            // this account; or else everybody
	Go      string `json:"go,omitempty"`                                              // of a landing: the page; "" takes it out
	Promise string `json:"promise,omitempty" enum:"only|always|never"`                // of a guarantee
	// of a guarantee; of a door that is new, in a comment behind it
	Because string `json:"because,omitempty"`
}

// Edits are changes of the text in force that are to be looked at.
type Edits struct {
	Edits []Edit `json:"edits"`
}

// Edited is what edits make of the text in force. It is not in force itself.
type Edited struct {
	Base       int64              `json:"base"` // the version that was edited
	Text       string             `json:"text"`
	Changed    bool               `json:"changed"`
	Lines      string             `json:"lines,omitempty"` // the difference, in the unified format
	Compared   Compared           `json:"compared"`
	Findings   []document.Finding `json:"findings"`
	Guarantees []prove.Guarantee  `json:"guarantees"`
	Sentence   []policy.Phrase    `json:"sentence,omitempty"`   // of the door that was set
	Exceptions []Exception        `json:"exceptions,omitempty"` // doors within it, which decide before it
	Remarks    []string           `json:"remarks,omitempty"`    // what is not wrong, and should be known
}

// Exception is a door within another one.
type Exception struct {
	Path     string   `json:"path"`
	Host     string   `json:"host,omitempty"`
	Methods  []string `json:"methods,omitempty"`
	Line     int      `json:"line"`
	Sentence string   `json:"sentence"`
}
