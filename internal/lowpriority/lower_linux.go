package lowpriority

import "golang.org/x/sys/unix"

// lower is by how much such work is less urgent (setpriority(2)): such a thread gets a tenth of a processor that others want, and
// all of one that nobody wants.
const lower = 10

// lowerThread makes this thread less urgent.
func lowerThread() { _ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), lower) }
