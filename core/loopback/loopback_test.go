package loopback

import (
	"net/http"
	"net/http/httptest"
	"testing"
)

func TestHostsOfThisMachineAreToldFromOthers(t *testing.T) {
	for host, want := range map[string]bool{
		"127.0.0.1": true, "127.0.0.1:9100": true, "127.7.7.7": true, "localhost": true, "LOCALHOST:80": true, "[::1]:80": true, "[::1]": true, "::1": true, "[::ffff:127.0.0.1]:80": true,
		"": false, "10.61.4.9": false, "0.0.0.0:80": false, "[::]:80": false, "localhost.lantern.example": false, "127.0.0.1.lantern.example:80": false, "127.0.0.1:80:80": false, ":80": false,
	} {
		if got := Host(host); got != want {
			t.Errorf("%q: %v", host, got)
		}
	}
}

func TestOnlyLoopbackIsListenedAt(t *testing.T) {
	for _, address := range []string{"0.0.0.0:0", ":0", "127.0.0.1", "lantern.example:80", ""} {
		if l, err := Listen(address); err == nil {
			l.Close()
			t.Errorf("%q is listened at", address)
		}
	}
	l, err := Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
}

func TestAPageThatLeadsHereByANameOfItsOwnIsRefused(t *testing.T) {
	h := Only(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("secret")) }))
	for host, want := range map[string]int{"127.0.0.1:9100": 200, "localhost": 200, "lantern.example": 421, "": 421} {
		r := httptest.NewRequest("GET", "/metrics", nil)
		r.Host = host
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		if w.Code != want {
			t.Errorf("host %q: status %d, %s", host, w.Code, w.Body)
		}
	}
}
