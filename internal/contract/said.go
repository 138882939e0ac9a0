package contract

// String is what is said, for people.
func (s Said) String() string { return s.Words }
