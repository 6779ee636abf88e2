package document

// Misplaced and Closing are for tests alone.
var Misplaced, Closing = misplaced, closing
