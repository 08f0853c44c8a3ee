package await_test

import (
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/await"
)

func pipe(t *testing.T) (read, write int) {
	var fds [2]int
	require.NoError(t, unix.Pipe2(fds[:], unix.O_CLOEXEC|unix.O_NONBLOCK))
	t.Cleanup(func() {
		_ = unix.Close(fds[0])
		_ = unix.Close(fds[1])
	})
	return fds[0], fds[1]
}

func TestItWaitsForAFileOrATime(t *testing.T) {
	read, write := pipe(t)
	fds := []unix.PollFd{{Fd: int32(read), Events: unix.POLLIN}}
	most := unix.NsecToTimespec(int64(5 * time.Millisecond))
	began := time.Now()
	n, err := await.Poll(fds, &most)
	require.NoError(t, err)
	assert.Zero(t, n)
	assert.GreaterOrEqual(t, time.Since(began), 5*time.Millisecond)

	go func() { _, _ = unix.Write(write, []byte{1}) }()
	n, err = await.Poll(fds, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.NotZero(t, fds[0].Revents&unix.POLLIN)

	_, err = await.Poll(nil, nil)
	assert.ErrorIs(t, err, unix.EINVAL)
}

func TestItSleeps(t *testing.T) {
	began := time.Now()
	await.Sleep(3 * time.Millisecond)
	assert.GreaterOrEqual(t, time.Since(began), 3*time.Millisecond)
	await.Sleep(0)
	await.Sleep(-time.Hour)
	assert.Less(t, time.Since(began), time.Minute)
}

// TestManyWaitWhileOthersWork: more wait than there are processors, and what else there is to do
// goes on, collecting garbage included.
func TestManyWaitWhileOthersWork(t *testing.T) {
	var wg sync.WaitGroup
	for range 8 * runtime.GOMAXPROCS(0) {
		read, write := pipe(t)
		wg.Go(func() {
			fds := []unix.PollFd{{Fd: int32(read), Events: unix.POLLIN}}
			var b [1]byte
			for range 200 {
				if n, err := await.Poll(fds, nil); err == nil && n == 1 {
					_, _ = unix.Read(read, b[:])
				}
			}
		})
		wg.Go(func() {
			for i := range 200 {
				_, _ = unix.Write(write, make([]byte, 1))
				if i%50 == 0 {
					runtime.GC()
				}
				runtime.Gosched()
			}
		})
	}
	done := make(chan struct{})
	go func() { wg.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("some wait for ever")
	}
}
