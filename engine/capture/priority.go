package capture

import (
	"runtime"
	"syscall"
	"time"

	"velvetrewind/core/pg"
)

// low is a scheduling priority that yields to everybody, and still gets its turn (about a tenth of an ordinary one's) where
// nobody rests: what has begun cannot be hurried, and others may come to wait for it.
const low = 10

// longestGentle is how long a finished segment may wait to be stored gently: on a machine that is never
// idle, work of low priority may take without end.
const longestGentle = 5 * time.Second

// overdue tells whether a finished segment has waited so long that it is stored as fast as may be.
func (c *capturer) overdue(path string) bool {
	info, err := c.spool.Disk.Stat(path)
	return err == nil && time.Since(info.ModTime()) > longestGentle
}

// gently does work at a low priority, so that it takes no time from the database on a machine that
// both share; but not if it is overdue, while the spool is filling up, or where another instance waits for what is in it.
func (c *capturer) gently(overdue bool, work func() error) (err error) {
	if asked := pg.LSN(c.asked.Load()); overdue || c.spool.Filling() || asked > c.shared && asked > c.snapshot().StoredLSN {
		return work()
	}
	atLowPriority(func() { err = work() })
	return err
}

// atLowPriority runs work on a thread of low priority, and waits for it. The thread ends
// with the work: an ordinary user cannot raise its priority again.
func atLowPriority(work func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked
		// Where it is refused, the work is done all the same.
		_ = syscall.Setpriority(syscall.PRIO_PROCESS, syscall.Gettid(), low)
		work()
	}()
	<-done
}
