package lab

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Cloud is the bay's own: the instances that its machines are, with networks, groups of rules, key pairs
// and images, served on loopback as the OpenStack APIs have it (Identity v3, Compute v2.1, Networking
// v2.0, Image v2). What is done to an instance is done to the machine one walks to.
type Cloud struct {
	// Pace is how long building, starting and stopping take.
	Pace time.Duration
	// Page is how many of a list are answered at once, 0 for as many as are asked for.
	Page int
	// Skew is how far its clock is off; to be set before anything is asked.
	Skew time.Duration

	bay      *Lab
	listener net.Listener
	server   *http.Server
	secret   string

	mu        sync.Mutex
	intercept func(w http.ResponseWriter, r *http.Request) bool
	tokens    map[string]time.Time // to when they end
	servers   []*instance
	next      int // the last part of the next address inside
	requests  int
	rounds    map[string]*time.Timer // what is to happen to instances, by their ids
	rules     map[string][]cloudRule // by the names of groups
	pairs     map[string]string      // public halves that were sent, by the names of pairs
	fault     Fault
	until     time.Time // when the fault ends
}

// instance is one of the cloud's.
type instance struct {
	id, name, status, task string
	image, key, network    string
	inside                 netip.Addr
	more                   netip.Addr // another inside, in the reef; the zero address for none
	outside                netip.Addr // the same
	size                   string
	groups                 []string
	meta                   map[string]string
	launched, updated      time.Time
	fault                  string
	host                   *Host // nil where nobody can walk to it
}

// cloudNetwork is a network of the bay's.
type cloudNetwork struct {
	id, name, cidr string
	external       bool
}

var cloudNetworks = []cloudNetwork{
	{"n-harbour", "harbour", "203.0.113.0/24", true}, {"n-shore", "shore", "10.61.0.0/24", false},
	{"n-reef", "reef", "10.61.4.0/24", false}, {"n-deep", "deep", "10.62.0.0/24", false},
}

// cloudRule is a rule of a group: inbound where in is set; from is a range, or a group by its name. The
// ports are first and last, both 0 for all.
type cloudRule struct {
	in          bool
	protocol    string
	first, last int
	from        string
	id, note    string // its description; those of the start have ids of their own
}

// same tells whether two rules do the same.
func (r cloudRule) same(other cloudRule) bool {
	r.id, r.note, other.id, other.note = "", "", "", ""
	return r == other
}

// anywhere lets out whatever there is.
var anywhere = cloudRule{from: "0.0.0.0/0"}

// cloudGroups are the groups of rules at the start. A few things are wrong: the shore lets everybody knock
// at 22, the tide's database is open to the bastion of yesterday, too, and the sluice lets in two machines,
// but not the bastion.
var cloudGroups = map[string][]cloudRule{
	"shore":    {letIn(22, 22, "0.0.0.0/0"), anywhere},
	"reef":     {letIn(22, 22, InnerAddress+"/32"), letIn(0, 0, "reef"), anywhere},
	"services": {letIn(7, 8080, InnerAddress+"/32"), anywhere},
	"tide":     {letIn(5432, 5432, InnerAddress+"/32"), letIn(5432, 5432, "10.61.4.9/32"), anywhere},
	"sluice":   {letIn(22, 22, "10.61.4.61/32"), letIn(22, 22, "10.61.4.50/32"), anywhere},
	"deep":     {anywhere},
}

// letIn is a rule that lets tcp in.
func letIn(first, last int, from string) cloudRule {
	return cloudRule{in: true, protocol: "tcp", first: first, last: last, from: from}
}

// cloudSizes are how large instances can be: CPUs, MiB, and GiB of disk.
var cloudSizes = map[string][3]int{"skiff": {1, 512, 5}, "cutter": {2, 2048, 20}, "barge": {4, 8192, 80}}

// cloudImages are the images, with their families and logins.
var cloudImages = map[string][3]string{
	"im-keeper": {"bay-keeper-12", "debian", "keeper"}, "im-warden": {"bay-warden-12", "debian", "warden"}, "im-plain": {"debian-12", "debian", ""},
}

// openCloud makes the cloud of the bay's machines, and serves it.
func (b *Lab) openCloud() error {
	c := &Cloud{Pace: 2 * time.Second, bay: b, tokens: map[string]time.Time{}, next: 70, rounds: map[string]*time.Timer{}, rules: maps.Clone(cloudGroups), pairs: map[string]string{}}
	launched := time.Now().Add(-12 * 24 * time.Hour).Truncate(time.Second)
	for _, p := range bayMap {
		i := &instance{
			name: p.name, status: "ACTIVE", image: "im-keeper", key: "gauge", network: "n-reef", groups: []string{"reef"},
			inside: netip.MustParseAddr(strings.Replace(p.address, "203.0.113", "10.61.0", 1)), meta: map[string]string{}, size: "skiff", launched: launched, updated: launched, host: b.hosts[p.name],
		}
		switch {
		case p.name == "quay":
			i.image, i.key, i.network, i.groups, i.outside, i.more = "im-warden", "shore", "n-shore", []string{"shore"}, netip.MustParseAddr(p.address), netip.MustParseAddr(InnerAddress)
		case strings.HasPrefix(p.name, "gauge-"):
			i.meta["role"], i.groups = "gauge", []string{"reef", "services"}
		case p.name == "archive":
			i.groups = []string{"reef", "services"}
		case p.name == "tide-db":
			i.key, i.groups, i.size = "tide", []string{"reef", "tide"}, "cutter"
		case p.name == "mast":
			i.key = "mast"
		case p.name == "sluice":
			i.groups = []string{"sluice"}
		case p.name == "survey-web":
			i.key, i.groups = "survey", []string{"reef", "services"}
		}
		i.id = "i-" + p.name
		c.servers = append(c.servers, i)
	}
	c.servers = append(c.servers,
		&instance{id: "i-sounder", name: "sounder", status: "ACTIVE", image: "im-plain", key: "sounding", network: "n-deep", groups: []string{"deep"}, inside: netip.MustParseAddr("10.62.0.12"), launched: launched, updated: launched, host: b.hosts["sounder"]},
		&instance{id: "i-float", name: "float", status: "ERROR", image: "im-plain", key: "gauge", network: "n-reef", launched: launched, updated: launched, fault: "No valid host was found. There are not enough hosts available."},
	)
	secret, err := keptText(filepath.Join(b.Dir, "lab", "secret"), func() string { return hex.EncodeToString(randomBytes(16)) })
	if err != nil {
		return err
	}
	c.secret = secret
	if c.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	clouds := fmt.Sprintf("clouds:\n  bay:\n    auth_type: v3applicationcredential\n    auth:\n      auth_url: %s/v3\n      application_credential_id: bay\n      application_credential_secret: %s\n    region_name: Bay\n", c.URL(), c.secret)
	if err := os.WriteFile(filepath.Join(b.Dir, "clouds.yaml"), []byte(clouds), 0o600); err != nil {
		return err
	}
	c.server = &http.Server{Handler: c.handler(), ReadHeaderTimeout: 10 * time.Second}
	b.cloud = c
	b.wg.Go(func() { _ = c.server.Serve(c.listener) }) // it ends with the bay
	return nil
}

// keptText is the text of a file of an earlier start, or what is made for the first.
func keptText(file string, first func() string) (string, error) {
	text, err := os.ReadFile(file)
	if os.IsNotExist(err) {
		text = []byte(first())
		err = os.WriteFile(file, text, 0o600)
	}
	return strings.TrimSpace(string(text)), err
}

func randomBytes(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b) // it never fails
	return b
}

// Cloud is the bay's cloud.
func (b *Lab) Cloud() *Cloud { return b.cloud }

// URL is where the cloud is served.
func (c *Cloud) URL() string { return "http://" + c.listener.Addr().String() }

// close ends the cloud.
func (c *Cloud) close() {
	_ = c.server.Close() // there is nobody to tell
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, t := range c.rounds {
		t.Stop()
	}
}

// Intercept has a function answer requests in place of the cloud where it returns true; nil ends that.
func (c *Cloud) Intercept(f func(w http.ResponseWriter, r *http.Request) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.intercept = f
}

// ForgetTokens has every token end.
func (c *Cloud) ForgetTokens() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.tokens)
}

// Requests is how many were answered.
func (c *Cloud) Requests() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.requests
}

// Status is how an instance stands, in the API's words; "" where there is none of that name.
func (c *Cloud) Status(name string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, i := range c.servers {
		if i.name == name && i.status != "DELETED" {
			return i.status
		}
	}
	return ""
}

// find is an instance by its id. It is called with the lock.
func (c *Cloud) find(id string) *instance {
	if n := slices.IndexFunc(c.servers, func(i *instance) bool { return i.id == id && i.status != "DELETED" }); n >= 0 {
		return c.servers[n]
	}
	return nil
}

// later has something happen to an instance once the cloud's pace has passed, in place of what was to
// happen. It is called with the lock, and calls with it.
func (c *Cloud) later(i *instance, do func()) {
	if t := c.rounds[i.id]; t != nil {
		t.Stop()
	}
	i.updated = time.Now()
	c.rounds[i.id] = time.AfterFunc(c.Pace, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		do()
		i.updated = time.Now()
	})
}

// conflict is why an instance cannot do what is asked.
type conflict string

func (c conflict) Error() string { return string(c) }

// act does to an instance what its action says. It is called with the lock.
func (c *Cloud) act(i *instance, action string) error {
	wrong := func(state string) error {
		return conflict(fmt.Sprintf("Cannot '%s' instance %s while it is in vm_state %s", strings.TrimPrefix(action, "os-"), i.id, state))
	}
	switch action {
	case "os-stop":
		if i.status != "ACTIVE" || i.task != "" {
			return wrong("stopped")
		}
		i.task = "powering-off"
		c.later(i, func() { i.status, i.task = "SHUTOFF", ""; i.down() })
	case "os-start":
		if i.status != "SHUTOFF" || i.task != "" {
			return wrong("active")
		}
		i.task = "powering-on"
		c.later(i, func() { i.status, i.task = "ACTIVE", ""; c.move(i); i.up() })
	case "reboot":
		if i.status != "ACTIVE" || i.task != "" {
			return wrong("stopped")
		}
		i.status, i.task = "REBOOT", "rebooting"
		i.down()
		c.later(i, func() { i.status, i.task = "ACTIVE", ""; i.up() })
	case "delete":
		i.task = "deleting"
		c.later(i, func() {
			i.down()
			i.status, i.task = "DELETED", "" // it is told of to who asks what has changed
		})
	default:
		return fmt.Errorf("there is no action %s", action)
	}
	return nil
}

// move gives an instance that was started another address inside, where none is reserved for it.
func (c *Cloud) move(i *instance) {
	if i.network != "n-reef" {
		return
	}
	i.inside = netip.AddrFrom4([4]byte{10, 61, 4, byte(c.next)})
	c.next++
	if i.host != nil {
		i.host.moveTo(i.inside.String())
	}
}

func (i *instance) down() {
	if i.host != nil {
		i.host.power(false)
	}
}

func (i *instance) up() {
	if i.host != nil {
		i.host.power(true)
	}
}

// console is what an instance printed when it started first, with the fingerprints of its host key.
func (i *instance) console() string {
	if i.host == nil {
		return "starting\nno more\n"
	}
	key := i.host.Identity()
	return fmt.Sprintf("[   11.20] %s login: first boot\n-----BEGIN SSH HOST KEY FINGERPRINTS-----\n256 %s root@%s (ED25519)\n-----END SSH HOST KEY FINGERPRINTS-----\n-----BEGIN SSH HOST KEY KEYS-----\n%s-----END SSH HOST KEY KEYS-----\n",
		i.name, ssh.FingerprintSHA256(key), i.name, ssh.MarshalAuthorizedKey(key))
}
