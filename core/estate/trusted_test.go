package estate

import (
	"errors"
	"net/http"
	"strings"
	"testing"
)

// noted is a line that notes where requests go.
type noted struct{ to []string }

func (n *noted) RoundTrip(r *http.Request) (*http.Response, error) {
	n.to = append(n.to, r.URL.Host)
	return nil, errors.New("nobody is there")
}

func TestATokenGoesToItsCloudAlone(t *testing.T) {
	for _, c := range []struct {
		identity, to string
		named        []string
		goes         bool
	}{
		{"identity.cloud.example", "https://compute.cloud.example/v2.1/servers?marker=x", nil, true},
		{"identity.cloud.example", "https://IDENTITY.cloud.example/v3", nil, true},
		{"identity.cloud.example", "https://cloud.example/v2", nil, true},
		{"identity.cloud.example", "https://cloud.example.evil.example/", nil, false},
		{"identity.cloud.example", "https://notcloud.example/", nil, false},
		{"identity.cloud.example", "https://203.0.113.7/", nil, false},
		{"identity.cloud.example", "https://images.elsewhere.example/", nil, false},
		{"identity.cloud.example", "https://images.elsewhere.example/", []string{"images.elsewhere.example"}, true},
		{"cloud.example", "https://other.example/", nil, false},
		{"127.0.0.1", "https://127.0.0.2/", nil, false},
		{"127.0.0.1", "http://127.0.0.1:9696/", nil, true},
	} {
		over := &noted{}
		line := &limitedLine{over: over, turn: make(chan struct{}, 1), identity: c.identity, hosts: c.named}
		r, err := http.NewRequest(http.MethodGet, c.to, nil)
		if err != nil {
			t.Fatal(err)
		}
		_, err = line.RoundTrip(r)
		if (len(over.to) > 0) != c.goes || !c.goes && !strings.Contains(err.Error(), "no token goes there") {
			t.Errorf("%s to %s: %v, %v", c.identity, c.to, over.to, err)
		}
	}
}
