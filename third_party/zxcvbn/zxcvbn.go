package zxcvbn

import (
	"time"

	"ostiarius/third_party/zxcvbn/match"
	"ostiarius/third_party/zxcvbn/matching"
	zxcvbnmath "ostiarius/third_party/zxcvbn/mathutils"
	"ostiarius/third_party/zxcvbn/scoring"
)

// PasswordStrength takes a password, userInputs and optional filters and returns a MinEntropyMatch
func PasswordStrength(password string, userInputs []string, filters ...func(match.Matcher) bool) scoring.MinEntropyMatch {
	start := time.Now()
	matches := matching.Omnimatch(password, userInputs, filters...)
	result := scoring.MinimumEntropyMatchSequence(password, matches)
	end := time.Now()

	calcTime := end.Nanosecond() - start.Nanosecond()
	result.CalcTime = zxcvbnmath.Round(float64(calcTime)*time.Nanosecond.Seconds(), .5, 3)
	return result
}
