package cargo

import (
	"context"
	"sync"
	"sync/atomic"
	"time"
)

// Progress is how far a carry is.
type Progress struct {
	Names, NamesDone int // items of the plan that do something
	Bytes, BytesDone int64
	Failed           int
	Rate             float64       // bytes a second, over the last seconds
	Left             time.Duration // at that rate; 0 where it is not known
	Took             time.Duration
	Now              string // a file that is being moved, "" for none
	Waiting          bool   // the line is lost
	Paused           bool
	Over             bool
}

// Share is how much is done, from 0 to 1.
func (p Progress) Share() float64 {
	if p.all() == 0 {
		return 1
	}
	return min(float64(p.done())/float64(p.all()), 1)
}

// aName is what a name counts beside its bytes, in bytes.
const aName = 4 << 10

// all and done are what there is to do and what is done of it, names and bytes together.
func (p Progress) all() int64  { return p.Bytes + int64(p.Names)*aName }
func (p Progress) done() int64 { return p.BytesDone + int64(p.NamesDone+p.Failed)*aName }

// progress counts how far a carry is.
type progress struct {
	names, namesDone, failedNames atomic.Int64
	bytes, bytesDone              atomic.Int64
	waiting                       atomic.Int32
	now                           atomic.Pointer[string]

	mu      sync.Mutex
	began   time.Time
	ended   time.Time
	first   sample // what was done before it began
	samples []sample
	quit    chan struct{}
}

// sample is how much was done at a time.
type sample struct {
	at           time.Time
	bytes, names int64
}

// window is over how long the rate is taken, and sampled how often.
const (
	window  = 5 * time.Second
	sampled = 250 * time.Millisecond
)

func (p *progress) init(plan *Plan) {
	for i := range plan.Items() {
		if i.Act != Leave {
			p.names.Add(1)
			p.bytes.Add(weight(i))
		}
	}
}

// weight is how many bytes an item moves.
func weight(i *Item) int64 {
	if i.Act == Make || i.Act == Replace {
		return i.New.Size
	}
	return 0
}

func (p *progress) start() {
	p.mu.Lock()
	p.began, p.quit = time.Now(), make(chan struct{})
	p.first = p.look()
	quit := p.quit
	p.mu.Unlock()
	go func() {
		tick := time.NewTicker(sampled)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				p.sample()
			case <-quit:
				return
			}
		}
	}()
}

// look is how much is done now.
func (p *progress) look() sample {
	return sample{time.Now(), p.bytesDone.Load(), p.namesDone.Load() + p.failedNames.Load()}
}

func (p *progress) sample() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.samples = append(p.samples, p.look())
	if keep := int(window / sampled); len(p.samples) > keep {
		p.samples = p.samples[len(p.samples)-keep:]
	}
}

func (p *progress) stop() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = time.Now()
	close(p.quit)
}

// skip counts what was done before.
func (p *progress) skip(i *Item) {
	p.namesDone.Add(1)
	p.bytesDone.Add(weight(i))
}

func (p *progress) done(*Item) { p.namesDone.Add(1) }

// failed counts an item that was not done, and takes back what had arrived of it.
func (p *progress) failed(i *Item, arrived int64) {
	p.failedNames.Add(1)
	p.bytesDone.Add(-min(arrived, weight(i)))
	p.bytes.Add(-weight(i))
}

// moved counts bytes that have arrived.
func (p *progress) moved(n int64) { p.bytesDone.Add(n) }

// Progress is how far it is now.
func (c *Carry) Progress() Progress {
	p := &c.progress
	out := Progress{
		Names: int(p.names.Load()), NamesDone: int(p.namesDone.Load()), Failed: int(p.failedNames.Load()),
		Bytes: p.bytes.Load(), BytesDone: p.bytesDone.Load(), Waiting: p.waiting.Load() > 0, Paused: c.paused.on(),
	}
	if now := p.now.Load(); now != nil {
		out.Now = *now
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.began.IsZero() {
		return out
	}
	end := time.Now()
	if out.Over = !p.ended.IsZero(); out.Over {
		end, out.Now = p.ended, ""
	}
	out.Took = end.Sub(p.began)
	first := p.first
	if len(p.samples) > 0 && !out.Over {
		first = p.samples[0]
	}
	if over := end.Sub(first.at); over > 0 {
		out.Rate = max(float64(out.BytesDone-first.bytes)/over.Seconds(), 0)
	}
	if now := out.done() - first.bytes - first.names*aName; now > 0 && !out.Over {
		out.Left = time.Duration(float64(out.all()-out.done()) / float64(now) * float64(end.Sub(first.at)))
	}
	return out
}

// Pause has nothing new begin until it is called with false. What is on its way arrives.
func (c *Carry) Pause(on bool) { c.paused.set(on) }

// pause is a door that can be shut for a time.
type pause struct {
	mu   sync.Mutex
	open chan struct{} // closed while it is open
	shut bool
}

func (p *pause) init() {
	p.open = make(chan struct{})
	close(p.open)
}

func (p *pause) set(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if on == p.shut {
		return
	}
	if p.shut = on; on {
		p.open = make(chan struct{})
	} else {
		close(p.open)
	}
}

func (p *pause) on() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.shut
}

// wait waits while it is shut.
func (p *pause) wait(ctx context.Context) error {
	p.mu.Lock()
	open := p.open
	p.mu.Unlock()
	select {
	case <-open:
		return ctx.Err()
	case <-ctx.Done():
		return ctx.Err()
	}
}
