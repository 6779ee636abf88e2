package client

// What can be asked about passwords.
var (
	EstimatePassword = Post[Estimated, Strength]("/passwords/estimate", "How hard a password is to guess; nothing is stored", Harmless)
	GeneratePassword = Post[Generate, Generated]("/passwords/generate", "A random password; nothing is stored", Harmless, Fails(422))
)

// Estimated is a password that is to be estimated, and the name of the account that it's for.
type Estimated struct {
	Password string `json:"password"`
	Name     string `json:"name,omitempty"`
}

// Strength says how hard a password is to guess.
type Strength struct {
	Bits   float64 `json:"bits"`
	Word   string  `json:"word" enum:"refused|weak|fair|good|strong"`
	Advice string  `json:"advice,omitempty"` // why it is refused
}

// Generate asks for a random password: of so many words, or of so many characters; the usual one if neither is
// said.
type Generate struct {
	Words    int  `json:"words,omitempty"`
	Length   int  `json:"length,omitempty"`
	Readable bool `json:"readable,omitempty"` // without characters that look like others, in groups
}

// Generated is a random password. It is stored nowhere.
type Generated struct {
	Password string   `json:"password"`
	Strength Strength `json:"strength"`
}
