package live

import (
	"runtime"
	"sync"
	"time"

	"woodlark.example/internal/network/pace"
)

// pump moves packets in real time, in a goroutine that runs while there are
// users.
type pump struct {
	n *Network

	life  sync.Mutex // of start and stop
	users int

	mu    sync.Mutex
	alarm *pace.Alarm
	over  chan struct{} // closed when the goroutine has ended
}

// start counts a user in.
func (p *pump) start() error {
	p.life.Lock()
	defer p.life.Unlock()
	if p.users == 0 {
		alarm, err := pace.NewAlarm()
		if err != nil {
			return err
		}
		p.over = make(chan struct{})
		p.set(alarm)
		go p.run(alarm, p.over)
	}
	p.users++
	return nil
}

// stop counts a user out; the last waits for the goroutine.
func (p *pump) stop() {
	p.life.Lock()
	defer p.life.Unlock()
	if p.users--; p.users > 0 {
		return
	}
	alarm := p.set(nil)
	alarm.Wake()
	<-p.over
	_ = alarm.Close()
}

// set puts an alarm in use and returns the one before.
func (p *pump) set(alarm *pace.Alarm) *pace.Alarm {
	p.mu.Lock()
	defer p.mu.Unlock()
	before := p.alarm
	p.alarm = alarm
	return before
}

func (p *pump) wake() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.alarm != nil {
		p.alarm.Wake()
	}
}

func (p *pump) running(alarm *pace.Alarm) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.alarm == alarm
}

func (p *pump) run(alarm *pace.Alarm, over chan<- struct{}) {
	defer close(over)
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	pace.Sharpen()
	for p.running(alarm) {
		p.n.mu.Lock()
		p.n.traffic.Advance(time.Now())
		next, _ := p.n.traffic.Next()
		p.n.mu.Unlock()
		alarm.Wait(next, false)
	}
}
