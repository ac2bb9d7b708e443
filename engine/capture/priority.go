package capture

import (
	"runtime"
	"syscall"
)

// lowest is the scheduling priority that yields to everybody.
const lowest = 19

// atLowPriority runs work on a thread of the lowest priority, and waits for it. The thread ends
// with the work: an ordinary user cannot raise its priority again.
func atLowPriority(work func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked
		// Where it is refused, the work is done all the same.
		_ = syscall.Setpriority(syscall.PRIO_PROCESS, syscall.Gettid(), lowest)
		work()
	}()
	<-done
}
