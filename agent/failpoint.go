package agent

// failpoint is called at each step of carrying a change out and between the files that
// are put in place. Tests set it to end the work there, as a crash would.
var failpoint = func(string) {}
