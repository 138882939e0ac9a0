//go:build !linux

package lowpriority

// lowerThread leaves the thread as it is: here it could not be lowered alone.
func lowerThread() {}
