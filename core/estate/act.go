package estate

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack/compute/v2/servers"
)

// Act is what can be done to an instance.
type Act string

// The acts. End is for good.
const (
	Start   Act = "start"
	Stop    Act = "stop"
	Restart Act = "restart"
	End     Act = "end"
)

// Reaches is the state that an act leads to.
func (a Act) Reaches() State {
	return map[Act]State{Start: Running, Stop: Stopped, Restart: Running, End: Ended}[a]
}

// Applies says why an act cannot be done to an instance as it stands, "" where it can.
func (a Act) Applies(i *Instance) string {
	switch {
	case i.State == Ended:
		return i.called() + " was ended"
	case a == Start && i.State == Running:
		return i.called() + " runs already"
	case a == Start && i.State != Stopped, a == Stop && i.State != Running, a == Restart && i.State != Running:
		return fmt.Sprintf("%s is %s", i.called(), i.State)
	}
	return ""
}

// ErrNoActs says that a source only tells.
var ErrNoActs = errors.New("a document only tells: nothing can be done to its instances from here")

// Acts tells whether something can be done to the source's instances.
func (s *Source) Acts() bool { return s.Kind.V == "openstack" }

// Do asks the source to do something to an instance. It is done when [Source.Await] says so.
func (s *Source) Do(ctx context.Context, a Act, id string) error {
	c, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	switch a {
	case Start:
		err = servers.Start(ctx, c.compute, id).ExtractErr()
	case Stop:
		err = servers.Stop(ctx, c.compute, id).ExtractErr()
	case Restart:
		err = servers.Reboot(ctx, c.compute, id, servers.RebootOpts{Type: servers.SoftReboot}).ExtractErr()
	case End:
		err = servers.Delete(ctx, c.compute, id).ExtractErr()
	}
	if err != nil {
		return told(err)
	}
	return nil
}

// dialled is the cloud, logged in to.
func (s *Source) dialled(ctx context.Context) (*cloud, error) {
	if !s.Acts() {
		return nil, ErrNoActs
	}
	if s.cloud == nil {
		c, err := dialCloud(ctx, s.Dir, s.EstateSource)
		if err != nil {
			return nil, told(err)
		}
		s.cloud = c
	}
	s.cloud.line.requests = 0
	return s.cloud, nil
}

const (
	// awaitTime is how long an act may take, and awaitPace how often is looked meanwhile.
	awaitTime = 10 * time.Minute
	awaitPace = time.Second
)

// Await waits until an instance is in a state, and tells of each state in between. It fails where the
// instance fails on the way, and after ten minutes.
func (s *Source) Await(ctx context.Context, id string, want State, tell func(State)) error {
	ctx, cancel := context.WithTimeout(ctx, awaitTime)
	defer cancel()
	c, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	last := UnknownState
	for {
		c.line.requests = 0
		n, err := servers.Get(ctx, c.compute, id).Extract()
		now := Ended
		switch {
		case gophercloud.ResponseCodeIs(err, http.StatusNotFound):
		case ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded):
			return fmt.Errorf("it is %s after %s", last, awaitTime)
		case err != nil:
			return told(err)
		default:
			now = stateOf(n)
		}
		if now != last {
			last = now
			tell(now)
		}
		switch now {
		case want:
			return nil
		case Failed:
			return fmt.Errorf("it has failed: %s", text(n.Fault.Message))
		case Ended:
			return errors.New("it was ended meanwhile")
		}
		select {
		case <-ctx.Done():
		case <-time.After(awaitPace):
		}
	}
}

// Console is what an instance has printed, as far as the source hands it out; it is hostile text.
func (s *Source) Console(ctx context.Context, id string) (string, error) {
	c, err := s.dialled(ctx)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, requestTime)
	defer cancel()
	out, err := servers.ShowConsoleOutput(ctx, c.compute, id, servers.ShowConsoleOutputOpts{}).Extract()
	if err != nil {
		return "", told(err)
	}
	return out, nil
}
