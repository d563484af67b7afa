// Package screenlock tells when the person leaves the machine: the screen locks, or the
// machine goes to sleep.
//
// It listens to the system's message bus (login1) and to the desktop's (the
// screen-saver interface), where there are such, and promises to send nothing on
// them but the wish to be told. Without a bus it tells nothing. It costs two
// goroutines and two local connections.
package screenlock

import (
	"context"
	"os"
	"sync"

	"github.com/godbus/dbus/v5"
)

// The signals that mean that somebody has left.
const (
	loginSession = "org.freedesktop.login1.Session"
	loginManager = "org.freedesktop.login1.Manager"
	screenSaver  = "org.freedesktop.ScreenSaver"
)

// Watch calls left, with the reason in words, each time the person leaves, until the
// context ends. It returns at once; heard is closed when it listens to all there is
// to listen to.
func Watch(ctx context.Context, left func(why string)) (heard <-chan struct{}) {
	done := make(chan struct{})
	var both sync.WaitGroup
	both.Go(func() { listen(ctx, systemBus, system, left) })
	both.Go(func() { listen(ctx, desktopBus, desktop, left) })
	go func() { both.Wait(); close(done) }()
	return done
}

func systemBus(ctx context.Context) (*dbus.Conn, error) {
	return dbus.ConnectSystemBus(dbus.WithContext(ctx))
}

// desktopBus is the bus of the desktop that the program runs on; none is started
// where there is none.
func desktopBus(ctx context.Context) (*dbus.Conn, error) {
	if os.Getenv("DBUS_SESSION_BUS_ADDRESS") == "" {
		return nil, os.ErrNotExist
	}
	return dbus.ConnectSessionBus(dbus.WithContext(ctx))
}

// listen takes the signals of one bus. It returns when it listens, and goes on.
func listen(ctx context.Context, connect func(context.Context) (*dbus.Conn, error), judge func(*dbus.Conn) (wanted [][2]string, why func(*dbus.Signal) string), left func(string)) {
	conn, err := connect(ctx)
	if err != nil {
		return
	}
	wanted, why := judge(conn)
	signals := make(chan *dbus.Signal, 16)
	conn.Signal(signals)
	for _, w := range wanted {
		if err := conn.AddMatchSignalContext(ctx, dbus.WithMatchInterface(w[0]), dbus.WithMatchMember(w[1])); err != nil {
			conn.Close()
			return
		}
	}
	go func() {
		defer conn.Close()
		for {
			select {
			case s, ok := <-signals:
				if !ok {
					return
				}
				if say := why(s); say != "" {
					left(say)
				}
			case <-ctx.Done():
				return
			}
		}
	}()
}

// system judges the signals of the system's bus: those of our own login session,
// where it is known, and the machine's sleep.
func system(conn *dbus.Conn) ([][2]string, func(*dbus.Signal) string) {
	var own dbus.ObjectPath
	conn.Object("org.freedesktop.login1", "/org/freedesktop/login1").Call(loginManager+".GetSessionByPID", 0, uint32(os.Getpid())).Store(&own)
	return [][2]string{{loginSession, "Lock"}, {loginManager, "PrepareForSleep"}}, func(s *dbus.Signal) string {
		switch {
		case s.Name == loginSession+".Lock" && (own == "" || s.Path == own):
			return "the screen was locked"
		case s.Name == loginManager+".PrepareForSleep" && on(s):
			return "the machine goes to sleep"
		}
		return ""
	}
}

// desktop judges the signals of the desktop's bus.
func desktop(*dbus.Conn) ([][2]string, func(*dbus.Signal) string) {
	return [][2]string{{screenSaver, "ActiveChanged"}}, func(s *dbus.Signal) string {
		if s.Name == screenSaver+".ActiveChanged" && on(s) {
			return "the screen was locked"
		}
		return ""
	}
}

// on tells whether a signal's one value is true.
func on(s *dbus.Signal) bool {
	if len(s.Body) != 1 {
		return false
	}
	is, ok := s.Body[0].(bool)
	return ok && is
}
