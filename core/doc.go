// Package core and the packages below it hold the doorkeeper's knowledge. They are pure:
// no HTTP, no SQL, no files, no clock of their own; a test holds them to it.
package core
