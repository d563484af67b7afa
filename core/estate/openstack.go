package estate

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/adrg/xdg"
	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack"
	"github.com/gophercloud/gophercloud/v2/openstack/compute/v2/keypairs"
	"github.com/gophercloud/gophercloud/v2/openstack/compute/v2/servers"
	"github.com/gophercloud/gophercloud/v2/openstack/config/clouds"
	"github.com/gophercloud/gophercloud/v2/openstack/image/v2/images"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/external"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/layer3/floatingips"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/layer3/routers"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/security/groups"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/networks"
	netports "github.com/gophercloud/gophercloud/v2/openstack/networking/v2/ports"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/subnets"
	"github.com/gophercloud/gophercloud/v2/pagination"
	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/bounded"
	"meatus/core/loopback"
	"meatus/core/sanitize"
)

const (
	// microversion is the newest of the Compute API that is asked for: 2.79 embeds no flavor id that we
	// need, and every service since 2019 has it.
	microversion = "2.79"
	// pageLength is how many of a list are asked for at once.
	pageLength  = 500
	requestTime = 30 * time.Second
	// MostRequests is how many requests one reading may take.
	MostRequests = 600
)

// cloud is a connection to the OpenStack services of one cloud, project and region. Its token is renewed
// when it has ended; it is for one goroutine.
type cloud struct {
	compute, network, image *gophercloud.ServiceClient
	line                    *limitedLine
	images                  map[string]Image // those that were asked about

	last    *Snapshot // as it was read last, nil for never
	names   map[string]string
	outside map[string]bool
	changed time.Time // the latest change of an instance that is known, by the service's clock
	light   int       // readings of what has changed alone since the last whole one
}

// mostLight is how many readings ask for changed instances alone between two whole ones, which see what
// no instance tells of: groups, networks, and addresses given to an instance that is otherwise the same.
const mostLight = 3

// limitedLine is what requests go over: no token goes over a line that others can read, no answer is
// longer than a document may be, and a reading takes no more requests than it may.
type limitedLine struct {
	over     http.RoundTripper
	turn     chan struct{} // held while a request is under way
	requests int
	identity string   // the host that one logs in at
	hosts    []string // others that a person trusts with the token
}

// trusted reports whether the token may be sent to a host: the one that issued it, one with the same parent domain, or one
// that the user has named. A catalog or a link to a next page may name any host.
func (l *limitedLine) trusted(host string) bool {
	host = strings.ToLower(host)
	if host == l.identity || slices.Contains(l.hosts, host) {
		return true
	}
	_, domain, ok := strings.Cut(l.identity, ".")
	if _, err := netip.ParseAddr(l.identity); err == nil || !ok || !strings.Contains(domain, ".") {
		return false
	}
	return host == domain || strings.HasSuffix(host, "."+domain)
}

func (l *limitedLine) RoundTrip(r *http.Request) (*http.Response, error) {
	if host := r.URL.Hostname(); r.URL.Scheme != "https" && !loopback.Host(host) {
		return nil, fmt.Errorf("%s is not https: others could read the token on the way", sanitize.Line(r.URL.Scheme+"://"+r.URL.Host, 100))
	}
	if host := r.URL.Hostname(); !l.trusted(host) {
		return nil, fmt.Errorf("it leads to %s, which is not beside %s: no token goes there; where that is right, write hosts = [%q] in the estate's table", sanitize.Line(host, 100), sanitize.Line(l.identity, 100), sanitize.Line(host, 100))
	}
	if l.requests++; l.requests > MostRequests {
		return nil, fmt.Errorf("it takes more than %d requests: its pages do not end", MostRequests)
	}
	select { // whoever asks this service waits until nobody else does
	case l.turn <- struct{}{}:
		defer func() { <-l.turn }()
	case <-r.Context().Done():
		return nil, r.Context().Err()
	}
	resp, err := l.over.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	if resp.StatusCode/100 == 2 && strings.HasPrefix(resp.Header.Get("Content-Type"), "text/html") {
		_ = resp.Body.Close() // what it says is of no use
		return nil, errors.New("it answers with a page, not with what the service says; is auth_url the right address?")
	}
	body, err := bounded.Read(resp.Body, MaxDocument)
	_ = resp.Body.Close() // what it says is read
	if err != nil {
		return nil, err
	}
	resp.Body = io.NopCloser(bytes.NewReader(body))
	return resp, nil
}

// turns are the services that are asked, each by one request at a time, by the address that one logs in at.
var turns sync.Map

func turnAt(address string) chan struct{} {
	turn, _ := turns.LoadOrStore(address, make(chan struct{}, 1))
	return turn.(chan struct{})
}

// dialCloud logs in to the cloud that a source names in a clouds.yaml: that of the workspace, else that of
// the account, else that of the machine.
func dialCloud(ctx context.Context, dir string, e book.EstateSource) (*cloud, error) {
	file := ""
	for _, path := range []string{filepath.Join(dir, "clouds.yaml"), filepath.Join(xdg.ConfigHome, "openstack", "clouds.yaml"), "/etc/openstack/clouds.yaml"} {
		if _, err := os.Stat(path); err == nil {
			file = path
			break
		}
	}
	if file == "" {
		return nil, fmt.Errorf("there is no clouds.yaml: write one in %s, with mode 0600", dir)
	}
	for _, secret := range []string{file, filepath.Join(filepath.Dir(file), "secure.yaml")} {
		if err := judgeSecret(secret, "the credentials"); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	options := []clouds.ParseOption{clouds.WithCloudName(e.Cloud.V), clouds.WithLocations(file)}
	if e.Region.Set {
		options = append(options, clouds.WithRegion(e.Region.V))
	}
	auth, endpoint, secure, err := clouds.Parse(options...)
	if err != nil {
		return nil, fmt.Errorf("%s: %s", file, sanitize.Line(err.Error(), 200))
	}
	if at, err := url.Parse(auth.IdentityEndpoint); err != nil || at.Host == "" {
		return nil, fmt.Errorf("%s: cloud %s has no auth_url that can be read", file, sanitize.Line(e.Cloud.V, 40))
	}
	if secure != nil && secure.InsecureSkipVerify {
		return nil, fmt.Errorf("%s: cloud %s has verify set to false, so the credentials would go to whoever answers; name its cacert instead", file, sanitize.Line(e.Cloud.V, 40))
	}
	auth.AllowReauth = true
	provider, err := openstack.NewClient(auth.IdentityEndpoint)
	if err != nil {
		return nil, err
	}
	over := http.DefaultTransport.(*http.Transport).Clone()
	over.TLSClientConfig = secure
	at, err := url.Parse(auth.IdentityEndpoint)
	if err != nil {
		return nil, err
	}
	c := &cloud{line: &limitedLine{over: over, turn: turnAt(auth.IdentityEndpoint), identity: strings.ToLower(at.Hostname()), hosts: e.Hosts.V}, images: map[string]Image{}}
	provider.HTTPClient = http.Client{
		Transport: c.line, Timeout: requestTime,
		CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			return fmt.Errorf("it leads on to %s: no token goes along", sanitize.Line(r.URL.Redacted(), 100))
		},
	}
	if err := openstack.Authenticate(ctx, provider, auth); err != nil {
		return nil, err
	}
	for _, service := range []struct {
		into *(*gophercloud.ServiceClient)
		open func(*gophercloud.ProviderClient, gophercloud.EndpointOpts) (*gophercloud.ServiceClient, error)
	}{{&c.compute, openstack.NewComputeV2}, {&c.network, openstack.NewNetworkV2}, {&c.image, openstack.NewImageV2}} {
		if *service.into, err = service.open(provider, endpoint); err != nil {
			return nil, err
		}
	}
	c.compute.Microversion = microversion
	return c, nil
}

// told says what a service answered, as a person can use it.
func told(err error) error {
	var code gophercloud.ErrUnexpectedResponseCode
	if !errors.As(err, &code) {
		return errors.New(sanitize.Line(err.Error(), 300))
	}
	status := fmt.Sprintf("%d %s", code.Actual, http.StatusText(code.Actual))
	switch code.Actual {
	case http.StatusUnauthorized:
		return fmt.Errorf("%s: the credentials in clouds.yaml are not taken", status)
	case http.StatusForbidden:
		return fmt.Errorf("%s: these credentials may not do that", status)
	case http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusRequestEntityTooLarge:
		return &Busy{status, retryAfter(code.ResponseHeader.Get("Retry-After"), time.Now())}
	}
	asked := code.URL
	if at, err := url.Parse(code.URL); err == nil {
		asked = at.Path
	}
	return fmt.Errorf("it answers %s to %s %s: %s", status, code.Method, sanitize.Line(asked, 100), sanitize.Line(string(code.Body[:min(len(code.Body), 1000)]), 160))
}

// read reads what is known there: all of it where whole is set or it is time for that, else the instances
// that have changed.
func (c *cloud) read(ctx context.Context, whole bool) (Snapshot, error) {
	c.line.requests = 0
	if !whole && c.last != nil && c.light < mostLight && !c.changed.IsZero() {
		if s, ok, err := c.readChanged(ctx); ok || err != nil {
			return s, err
		}
	}
	var s Snapshot
	var err error
	c.last, c.changed = nil, time.Time{}
	if c.names, c.outside, err = c.readNetworks(ctx, &s); err != nil {
		return s, err
	}
	if err := c.readGroups(ctx, &s); err != nil {
		return s, err
	}
	if err := c.readKeyPairs(ctx, &s); err != nil {
		return s, err
	}
	if err := c.readServers(ctx, &s); err != nil {
		return s, err
	}
	if err := c.readReservations(ctx, &s); err != nil {
		return s, err
	}
	c.last, c.light = &s, 0
	return s, nil
}

// readChanged reads the instances that have changed since the last reading, and puts them into what that
// gave. It is not ok where one of them has something that was not known then.
func (c *cloud) readChanged(ctx context.Context) (s Snapshot, ok bool, err error) {
	found, _, err := c.listServers(ctx, c.last, c.changed.Format(time.RFC3339))
	if err != nil {
		return s, false, err
	}
	c.light++
	s = *c.last
	s.Instances = slices.Clone(s.Instances)
	at := make(map[string]int, len(s.Instances))
	for i := range s.Instances {
		at[s.Instances[i].ID] = i
	}
	for _, n := range found {
		for _, a := range n.Addresses {
			if a.Network != "" && !slices.ContainsFunc(s.Networks, func(known Network) bool { return known.ID == a.Network }) {
				return s, false, nil
			}
		}
		for _, id := range n.Groups {
			if !slices.ContainsFunc(s.Groups, func(g Group) bool { return g.ID == id }) {
				return s, false, nil
			}
		}
		_, imaged := s.ImageOf(&n)
		i, known := at[n.ID]
		switch {
		case n.State != Ended && (n.Image != "" && !imaged || n.KeyPair != "" && !slices.ContainsFunc(s.KeyPairs, func(p KeyPair) bool { return p.Name == n.KeyPair })):
			return s, false, nil
		case known:
			s.Instances[i] = n
		case n.State != Ended:
			s.Instances = append(s.Instances, n)
		}
	}
	s.Instances = slices.DeleteFunc(s.Instances, func(i Instance) bool { return i.State == Ended })
	c.last = &s
	return s, true, nil
}

// each reads a list page by page.
func each[T any](ctx context.Context, list pagination.Pager, extract func(pagination.Page) ([]T, error), do func(T)) error {
	return list.EachPage(ctx, func(_ context.Context, page pagination.Page) (bool, error) {
		all, err := extract(page)
		for _, one := range all {
			do(one)
		}
		return err == nil, err
	})
}

// text is a service's text as it can be shown and compared.
func text(s string) string { return sanitize.Line(s, maxText) }

// readNetworks reads networks, subnets and routers. It returns the ids of networks by their names, and
// which of them lead outside.
func (c *cloud) readNetworks(ctx context.Context, s *Snapshot) (names map[string]string, outside map[string]bool, err error) {
	names, outside = map[string]string{}, map[string]bool{}
	type network struct {
		networks.Network
		external.NetworkExternalExt
	}
	at := map[string]int{}
	err = each(ctx, networks.List(c.network, networks.ListOpts{Limit: pageLength}), func(p pagination.Page) (all []network, err error) {
		return all, networks.ExtractNetworksInto(p, &all)
	}, func(n network) {
		at[n.ID] = len(s.Networks)
		s.Networks = append(s.Networks, Network{ID: text(n.ID), Name: text(n.Name), External: n.External})
		names[n.Name], outside[n.ID] = n.ID, n.External
	})
	if err != nil {
		return nil, nil, err
	}
	err = each(ctx, subnets.List(c.network, subnets.ListOpts{Limit: pageLength}), subnets.ExtractSubnets, func(n subnets.Subnet) {
		cidr, err := netip.ParsePrefix(n.CIDR)
		if err != nil {
			return
		}
		s.Subnets = append(s.Subnets, Subnet{ID: text(n.ID), Name: text(n.Name), Network: text(n.NetworkID), CIDR: cidr})
		if i, ok := at[n.NetworkID]; ok {
			s.Networks[i].CIDRs = append(s.Networks[i].CIDRs, cidr)
		}
	})
	if err != nil {
		return nil, nil, err
	}
	joined := map[string][]string{}
	for _, owner := range []string{"network:router_interface", "network:router_interface_distributed", "network:ha_router_replicated_interface"} {
		err = each(ctx, netports.List(c.network, netports.ListOpts{DeviceOwner: owner, Limit: pageLength}), netports.ExtractPorts, func(p netports.Port) {
			if !slices.Contains(joined[p.DeviceID], p.NetworkID) {
				joined[p.DeviceID] = append(joined[p.DeviceID], p.NetworkID)
			}
		})
		if err != nil {
			return nil, nil, err
		}
	}
	err = each(ctx, routers.List(c.network, routers.ListOpts{Limit: pageLength}), routers.ExtractRouters, func(r routers.Router) {
		s.Routers = append(s.Routers, Router{ID: text(r.ID), Name: text(r.Name), Networks: joined[r.ID], Outside: r.GatewayInfo.NetworkID != ""})
	})
	return names, outside, err
}

func (c *cloud) readGroups(ctx context.Context, s *Snapshot) error {
	return each(ctx, groups.List(c.network, groups.ListOpts{Limit: pageLength}), groups.ExtractGroups, func(g groups.SecGroup) {
		group := Group{ID: text(g.ID), Name: text(g.Name)}
		for _, r := range g.Rules {
			group.Rules = append(group.Rules, ruleOf(r.Direction, r.EtherType, r.Protocol, r.PortRangeMin, r.PortRangeMax, r.RemoteIPPrefix, r.RemoteGroupID))
		}
		s.Groups = append(s.Groups, group)
	})
}

// ruleOf is a rule as the Networking API tells it: no protocol is every one, and no range all of its family.
func ruleOf(direction, family, protocol string, first, last int, prefix, from string) Rule {
	rule := Rule{Inbound: direction == "ingress", Protocol: text(protocol), To: 65535, Group: text(from)}
	if rule.Protocol == "" {
		rule.Protocol = "any"
	}
	if first > 0 || last > 0 {
		rule.From, rule.To = port(first), port(last)
	}
	if rule.Group != "" {
		if rule.Family = 4; family == "IPv6" {
			rule.Family = 6
		}
	}
	if cidr, err := netip.ParsePrefix(prefix); err == nil {
		rule.CIDR = cidr
	} else if rule.Group == "" {
		rule.CIDR = netip.PrefixFrom(netip.IPv4Unspecified(), 0)
		if family == "IPv6" {
			rule.CIDR = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
	}
	return rule
}

func port(n int) uint16 { return uint16(max(min(n, 65535), 0)) }

func (c *cloud) readKeyPairs(ctx context.Context, s *Snapshot) error {
	return each(ctx, keypairs.List(c.compute, keypairs.ListOpts{}), keypairs.ExtractKeyPairs, func(k keypairs.KeyPair) {
		pair := KeyPair{Name: text(k.Name), Fingerprint: text(k.Fingerprint)}
		if public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(k.PublicKey)); err == nil {
			pair.Fingerprint, pair.Kind = ssh.FingerprintSHA256(public), public.Type()
		}
		s.KeyPairs = append(s.KeyPairs, pair)
	})
}

// cloudStates are how the Compute API's states are told here; what it is about to become counts more.
var cloudStates = map[string]State{
	"ACTIVE": Running, "PASSWORD": Running, "VERIFY_RESIZE": Running, "BUILD": Starting, "REBUILD": Starting, "REBOOT": Starting, "HARD_REBOOT": Starting,
	"SHUTOFF": Stopped, "PAUSED": Stopped, "SUSPENDED": Stopped, "SHELVED": Stopped, "SHELVED_OFFLOADED": Stopped, "RESCUE": Stopped,
	"ERROR": Failed, "DELETED": Ended, "SOFT_DELETED": Ended,
}

func stateOf(n *servers.Server) State {
	switch n.TaskState {
	case "powering-off", "deleting":
		return Stopping
	case "powering-on", "rebooting", "reboot_started", "spawning":
		return Starting
	}
	if s, ok := cloudStates[n.Status]; ok {
		return s
	}
	return UnknownState
}

func (c *cloud) readServers(ctx context.Context, s *Snapshot) (err error) {
	var wanted map[string]bool
	if s.Instances, wanted, err = c.listServers(ctx, s, ""); err != nil {
		return err
	}
	return c.readImages(ctx, s, wanted)
}

// listServers reads the instances, those alone that have changed since a time where that is not "". It
// returns the ids of their images, too.
func (c *cloud) listServers(ctx context.Context, s *Snapshot, since string) (all []Instance, images map[string]bool, err error) {
	groupIDs := map[string]string{}
	for _, g := range s.Groups {
		groupIDs[g.Name] = g.ID
	}
	var failed []int
	images = map[string]bool{}
	err = each(ctx, servers.List(c.compute, servers.ListOpts{Limit: pageLength, ChangesSince: since}), servers.ExtractServers, func(n servers.Server) {
		i := c.instanceOf(&n, groupIDs)
		if i.Image != "" {
			images[i.Image] = true
		}
		if i.State == Failed && i.Wrong == "" {
			failed = append(failed, len(all))
		}
		if n.Updated.After(c.changed) {
			c.changed = n.Updated.UTC()
		}
		all = append(all, i)
	})
	if err != nil {
		return nil, nil, err
	}
	for _, at := range failed[:min(len(failed), 50)] { // the list does not always say what went wrong
		if n, err := servers.Get(ctx, c.compute, all[at].ID).Extract(); err == nil {
			all[at].Wrong = text(n.Fault.Message)
		}
	}
	return all, images, nil
}

// instanceOf is an instance as the Compute API tells it.
func (c *cloud) instanceOf(n *servers.Server, groupIDs map[string]string) Instance {
	i := Instance{
		ID: text(n.ID), Name: text(n.Name), Tags: map[string]string{}, State: stateOf(n), Checks: None, KeyPair: text(n.KeyName), Launched: n.LaunchedAt.UTC(),
		Addresses: addressesOf(n.Addresses, c.names, c.outside), Wrong: text(n.Fault.Message),
	}
	if i.Launched.IsZero() {
		i.Launched = n.Created.UTC()
	}
	for k, v := range n.Metadata {
		i.Tags[text(k)] = text(v)
	}
	for _, key := range []string{"original_name", "id"} { // which of them depends on the microversion
		if size, ok := n.Flavor[key].(string); ok && i.Size == "" {
			i.Size = text(size)
		}
	}
	if n.Tags != nil {
		for _, tag := range *n.Tags {
			i.Tags[text(tag)] = ""
		}
	}
	if id, ok := n.Image["id"].(string); ok {
		i.Image = text(id)
	}
	for _, g := range n.SecurityGroups {
		if name, ok := g["name"].(string); ok {
			i.Groups = append(i.Groups, cmp.Or(groupIDs[text(name)], text(name)))
		}
	}
	slices.Sort(i.Groups)
	i.Groups = slices.Compact(i.Groups)
	return i
}

// addressesOf are a server's addresses, those inside first. The service has them by the names of networks,
// in no order that stays.
func addressesOf(all map[string]any, names map[string]string, outside map[string]bool) []Address {
	var out []Address
	for name, list := range all {
		entries, _ := list.([]any)
		for _, e := range entries {
			entry, _ := e.(map[string]any)
			said, _ := entry["addr"].(string)
			ip, err := netip.ParseAddr(said)
			if err != nil || ip.Zone() != "" {
				continue
			}
			id := cmp.Or(names[name], text(name))
			a := Address{IP: ip, Network: id, Outside: outside[id]}
			if entry["OS-EXT-IPS:type"] == "floating" {
				a.Network, a.Outside = "", true
			}
			out = append(out, a)
		}
	}
	slices.SortFunc(out, func(a, b Address) int {
		if a.Outside != b.Outside {
			return map[bool]int{false: -1, true: 1}[a.Outside]
		}
		return a.IP.Compare(b.IP)
	})
	return out
}

// readImages reads the images that instances are made from. One that is there does not change.
func (c *cloud) readImages(ctx context.Context, s *Snapshot, wanted map[string]bool) error {
	ids := make([]string, 0, len(wanted))
	for id := range wanted {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		image, known := c.images[id]
		if !known {
			found, err := images.Get(ctx, c.image, id).Extract()
			image = Image{ID: id}
			switch {
			case gophercloud.ResponseCodeIs(err, http.StatusNotFound):
			case err != nil:
				return err
			default:
				image = imageOf(found)
			}
			c.images[id] = image
		}
		s.Images = append(s.Images, image)
	}
	return nil
}

// imageOf is an image as the Image API tells it.
func imageOf(found *images.Image) Image {
	m := Image{ID: text(found.ID), Name: text(found.Name)}
	if login, ok := found.Properties["os_admin_user"].(string); ok {
		m.Login = text(login)
	}
	if m.Family, _ = found.Properties["os_distro"].(string); m.Family == "" {
		first, _, _ := strings.Cut(strings.NewReplacer(" ", "-", "_", "-").Replace(m.Name), "-")
		m.Family = strings.ToLower(strings.TrimRight(first, "0123456789."))
	}
	m.Family = text(m.Family)
	return m
}

func (c *cloud) readReservations(ctx context.Context, s *Snapshot) error {
	holder := map[netip.Addr]string{}
	for _, i := range s.Instances {
		for _, a := range i.Addresses {
			if a.Outside {
				holder[a.IP] = i.ID
			}
		}
	}
	return each(ctx, floatingips.List(c.network, floatingips.ListOpts{Limit: pageLength}), floatingips.ExtractFloatingIPs, func(f floatingips.FloatingIP) {
		if ip, err := netip.ParseAddr(f.FloatingIP); err == nil {
			s.Reservations = append(s.Reservations, Reservation{IP: ip, Instance: holder[ip]})
		}
	})
}
