package reach

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"meatus/core/estate"
)

// packetPorts are the ports that every machine of a packet estate listens at.
var packetPorts = []uint16{1001, 1003, 1005}

// world is an address outside.
var world = netip.MustParseAddr("198.51.100.7")

// packetEstate is a small estate that can be built of network namespaces: each network is a bridge, a machine has at
// most one address of a family in it, and all are apart.
func packetEstate(r *rand.Rand) *estate.Snapshot {
	s := &estate.Snapshot{}
	for n := range 3 {
		s.Networks = append(s.Networks, estate.Network{ID: fmt.Sprint("n", n)})
	}
	if r.IntN(2) == 0 {
		s.Routers = append(s.Routers, estate.Router{ID: "r", Networks: []string{"n0", "n1"}})
	}
	if r.IntN(2) == 0 {
		s.Peerings = append(s.Peerings, estate.Peering{ID: "p", Networks: []string{"n2", "n1"}})
	}
	ranges := []string{"0.0.0.0/0", "10.61.0.0/16", "10.61.1.0/24", "10.61.0.10/32", "10.61.0.11/31", "198.51.100.0/24", "198.51.100.7/32", "::/0", "fd61:1::/32", "fd61::a/128"}
	for n := range 2 + r.IntN(2) {
		g := estate.Group{ID: fmt.Sprint("g", n)}
		for range 1 + r.IntN(5) {
			from := 1000 + uint16(r.IntN(7))
			rule := estate.Rule{Inbound: r.IntN(3) > 0, Protocol: []string{"tcp", "6", "any", "udp"}[r.IntN(4)], From: from, To: from + uint16(r.IntN(4)) - 1}
			if r.IntN(2) == 0 {
				rule.From, rule.To = 0, 65535
			}
			if r.IntN(3) == 0 {
				rule.Group = fmt.Sprint("g", r.IntN(3))
			} else {
				rule.CIDR = netip.MustParsePrefix(ranges[r.IntN(len(ranges))])
			}
			g.Rules = append(g.Rules, rule)
		}
		for _, all := range []string{"0.0.0.0/0", "::/0"} { // most let out whatever there is
			if r.IntN(3) > 0 {
				g.Rules = append(g.Rules, estate.Rule{Protocol: "any", To: 65535, CIDR: netip.MustParsePrefix(all)})
			}
		}
		s.Groups = append(s.Groups, g)
	}
	for n := range 4 {
		i := estate.Instance{ID: fmt.Sprint("i", n), State: estate.Running}
		for _, network := range r.Perm(3)[:1+r.IntN(2)] {
			i.Addresses = append(i.Addresses, estate.Address{IP: netip.AddrFrom4([4]byte{10, 61, byte(network), byte(10 + n)}), Network: fmt.Sprint("n", network)})
			if r.IntN(2) == 0 {
				i.Addresses = append(i.Addresses, estate.Address{IP: netip.MustParseAddr(fmt.Sprintf("fd61:%d::%x", network, 10+n)), Network: fmt.Sprint("n", network)})
			}
		}
		if r.IntN(2) == 0 {
			i.Addresses = append(i.Addresses, estate.Address{IP: netip.AddrFrom4([4]byte{203, 0, 113, byte(10 + n)}), Outside: true})
		}
		for _, g := range s.Groups {
			if r.IntN(3) > 0 {
				i.Groups = append(i.Groups, g.ID)
			}
		}
		s.Instances = append(s.Instances, i)
	}
	return s
}

// built is an estate as network namespaces: a fabric with a bridge for each network that routes between those that
// are joined, a machine for each instance that filters by its groups, and the world.
type built struct {
	t      testing.TB
	s      *estate.Snapshot
	prefix string
	fabric string
}

func run(t testing.TB, input, name string, args ...string) {
	t.Helper()
	c := exec.Command(name, args...)
	c.Stdin = strings.NewReader(input)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s %s: %v\n%s\n%s", name, strings.Join(args, " "), err, out, input)
	}
}

// batch has the ip tool do lines of commands in a namespace, "" for this one.
func batch(t testing.TB, namespace string, lines []string) {
	t.Helper()
	args := []string{"-batch", "-"}
	if namespace != "" {
		args = append([]string{"-n", namespace}, args...)
	}
	run(t, strings.Join(lines, "\n")+"\n", "ip", args...)
}

func (b *built) machine(n int) string { return b.prefix + "i" + strconv.Itoa(n) }

// build makes the namespaces. They go when the test ends.
func build(t testing.TB, s *estate.Snapshot, name string) *built {
	t.Helper()
	b := &built{t: t, s: s, prefix: name, fabric: name + "f"}
	all := []string{b.fabric, name + "w"}
	for n := range s.Instances {
		all = append(all, b.machine(n))
	}
	var add []string
	for _, ns := range all {
		add = append(add, "netns add "+ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() }) // it may not have been made
	}
	batch(t, "", add)
	fabric := []string{"link set lo up"}
	for n := range s.Networks {
		fabric = append(fabric, fmt.Sprintf("link add b%d type bridge", n), fmt.Sprintf("link set b%d up", n), fmt.Sprintf("addr add 10.61.%d.254/24 dev b%d", n, n), fmt.Sprintf("addr add fd61:%d::fe/64 dev b%d nodad", n, n))
	}
	fabric = append(fabric, "link add w type veth peer name w netns "+name+"w", "link set w up", "addr add 198.51.100.254/24 dev w")
	batch(t, b.fabric, fabric)
	batch(t, name+"w", []string{"link set lo up", "link set w up", "addr add " + world.String() + "/24 dev w", "route add default via 198.51.100.254"})
	for n := range s.Instances {
		b.join(n)
	}
	for _, set := range []string{"net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1"} {
		run(t, "", "ip", "netns", "exec", b.fabric, "sysctl", "-qw", set)
	}
	run(t, b.fabricRules(), "ip", "netns", "exec", b.fabric, "nft", "-f", "-")
	return b
}

// join gives an instance its addresses, each with its way out by the network that it is in, and its filter.
func (b *built) join(n int) {
	b.t.Helper()
	i, ns := &b.s.Instances[n], b.machine(n)
	made := map[string]bool{}
	here, there := []string{"link set lo up"}, []string{}
	var routes, rules, rules6 []string
	for k, a := range i.Addresses {
		if a.Outside {
			continue
		}
		network, device := strings.TrimPrefix(a.Network, "n"), "e"+strings.TrimPrefix(a.Network, "n")
		if !made[device] {
			made[device] = true
			port := fmt.Sprintf("m%d-%s", n, network)
			there = append(there, fmt.Sprintf("link add %s type veth peer name %s netns %s", port, device, ns), fmt.Sprintf("link set %s master b%s up", port, network))
			here = append(here, "link set "+device+" up")
		}
		table := 100 + k
		if a.IP.Is4() {
			here = append(here, fmt.Sprintf("addr add %s/24 dev %s", a.IP, device))
			routes = append(routes, fmt.Sprintf("route add 10.61.%s.0/24 dev %s src %s table %d", network, device, a.IP, table), fmt.Sprintf("route add default via 10.61.%s.254 dev %s table %d", network, device, table))
			rules = append(rules, fmt.Sprintf("rule add from %s lookup %d", a.IP, table))
		} else {
			here = append(here, fmt.Sprintf("addr add %s/64 dev %s nodad", a.IP, device))
			routes = append(routes, fmt.Sprintf("-6 route add fd61:%s::/64 dev %s table %d", network, device, table), fmt.Sprintf("-6 route add default via fd61:%s::fe dev %s table %d", network, device, table))
			rules6 = append(rules6, fmt.Sprintf("-6 rule add from %s lookup %d", a.IP, table))
		}
	}
	batch(b.t, b.fabric, there)
	batch(b.t, ns, here)
	for _, line := range slices.Concat(routes, rules, rules6) { // a batch is of one family
		run(b.t, "", "ip", append([]string{"-n", ns}, strings.Fields(line)...)...)
	}
	run(b.t, b.filter(i), "ip", "netns", "exec", ns, "nft", "-f", "-")
}

// fabricRules are what the fabric lets through: between networks that are joined, and from the world to the addresses
// outside, which are the machines' first inside.
func (b *built) fabricRules() string {
	forward, nat := "", ""
	joined := func(ids []string) {
		for _, x := range ids {
			for _, y := range ids {
				if x != y {
					forward += fmt.Sprintf("iifname b%s oifname b%s accept\n", x[1:], y[1:])
				}
			}
		}
	}
	for n := range b.s.Networks { // some systems have frames within a bridge pass here, too
		forward += fmt.Sprintf("iifname b%d oifname b%d accept\n", n, n)
	}
	for _, r := range b.s.Routers {
		joined(r.Networks)
	}
	for _, p := range b.s.Peerings {
		joined(p.Networks)
	}
	for _, i := range b.s.Instances {
		for _, a := range i.Addresses {
			if a.Outside {
				nat += fmt.Sprintf("iifname w ip daddr %s dnat to %s\n", a.IP, i.Addresses[0].IP)
			}
		}
	}
	return fmt.Sprintf(`table inet f {
chain forward { type filter hook forward priority 0; policy drop;
ct state established,related accept
%siifname w ct status dnat accept
meta l4proto tcp reject with tcp reset
}
}
table ip n {
chain pre { type nat hook prerouting priority -100;
%s}
}
`, forward, nat)
}

// filter is the rules of an instance's groups as a packet filter, which is stateful.
func (b *built) filter(i *estate.Instance) string {
	in, out := "", ""
	for _, id := range i.Groups {
		for _, g := range b.s.Groups {
			for _, r := range g.Rules {
				if g.ID != id || r.From > r.To || r.Proto() == "udp" {
					continue
				}
				ports := fmt.Sprintf("tcp dport %d-%d accept\n", r.From, r.To)
				side, chain := "daddr", &out
				if r.Inbound {
					side, chain = "saddr", &in
				}
				if r.Group == "" {
					*chain += fmt.Sprintf("%s %s %s %s", family(r.CIDR.Addr()), side, r.CIDR.Masked(), ports)
					continue
				}
				for _, m := range b.s.Instances {
					for _, a := range m.Addresses {
						if slices.Contains(m.Groups, r.Group) && !a.Outside {
							*chain += fmt.Sprintf("%s %s %s %s", family(a.IP), side, a.IP, ports)
						}
					}
				}
			}
		}
	}
	return fmt.Sprintf(`table inet f {
chain in { type filter hook input priority 0; policy drop;
ct state established,related accept
iif lo accept
meta l4proto ipv6-icmp accept
%smeta l4proto tcp reject with tcp reset
}
chain out { type filter hook output priority 0; policy drop;
ct state established,related accept
meta l4proto { icmp, ipv6-icmp } accept
tcp flags & rst == rst accept
%smeta l4proto tcp reject with tcp reset
}
}
`, in, out)
}

func family(a netip.Addr) string {
	if a.Is4() {
		return "ip"
	}
	return "ip6"
}

// inside does something in a namespace; sockets that it makes stay there.
func inside(t testing.TB, namespace string, do func()) {
	t.Helper()
	done := make(chan error)
	go func() { // its thread ends with it, since it is not let go
		runtime.LockOSThread()
		file, err := os.Open("/var/run/netns/" + namespace)
		if err == nil {
			err = unix.Setns(int(file.Fd()), unix.CLONE_NEWNET)
			file.Close()
		}
		if err == nil {
			do()
		}
		done <- err
	}()
	if err := <-done; err != nil {
		t.Fatalf("entering %s: %v", namespace, err)
	}
}

// listen has a machine answer at the ports.
func (b *built) listen(n int) {
	inside(b.t, b.machine(n), func() {
		for _, port := range packetPorts {
			l, err := net.Listen("tcp", fmt.Sprintf("[::]:%d", port))
			if err != nil {
				b.t.Error(err)
				return
			}
			b.t.Cleanup(func() { l.Close() })
			go func() {
				for c, err := l.Accept(); err == nil; c, err = l.Accept() {
					c.Close()
				}
			}()
		}
	})
}

// connects tells whether a real connection is made. What a filter turns down answers at once.
func connects(from, to netip.Addr, port uint16) (bool, error) {
	d := net.Dialer{LocalAddr: net.TCPAddrFromAddrPort(netip.AddrPortFrom(from, 0)), Timeout: 5 * time.Second}
	c, err := d.DialContext(context.Background(), "tcp", netip.AddrPortFrom(to, port).String())
	if err == nil {
		c.Close()
		return true, nil
	}
	if errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EACCES) || errors.Is(err, syscall.EPERM) {
		return false, nil
	}
	return false, err
}

// The judge says of each pair of addresses and each port what real packets do, through real routes and filters.
func TestTheJudgeAgreesWithPackets(t *testing.T) {
	if os.Geteuid() != 0 {
		if os.Getenv("CI") == "" {
			t.Skip("it makes network namespaces, which takes the superuser")
		}
		t.Fatal("it makes network namespaces, which takes the superuser")
	}
	estates := 10
	if n, err := strconv.Atoi(os.Getenv("MEATUS_PACKETS")); err == nil {
		estates = n
	}
	tried, open := 0, 0
	for seed := range estates {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			s := packetEstate(rand.New(rand.NewPCG(uint64(seed), 22)))
			b := build(t, s, fmt.Sprintf("mt%d-%d", os.Getpid(), seed))
			j := NewJudge(s)
			for n := range s.Instances {
				b.listen(n)
			}
			check := func(from From, source netip.Addr, to *estate.Instance, at estate.Address, port uint16, judged Answer) {
				got, err := connects(source, at.IP, port)
				if tried++; got {
					open++
				}
				if got != judged.Open || err != nil {
					t.Errorf("from %s to %s, tcp %d: packets get through: %v (%v), judged\n%v", source, at.IP, port, got, err, judged)
				}
			}
			for n := range s.Instances {
				from := From{Instance: &s.Instances[n]}
				inside(t, b.machine(n), func() {
					for m := range s.Instances {
						to := &s.Instances[m]
						if m == n {
							continue
						}
						for _, own := range from.Instance.Addresses {
							for _, at := range to.Addresses {
								if own.Outside || at.Outside || own.IP.Is4() != at.IP.Is4() {
									continue
								}
								for _, number := range packetPorts {
									port := Port{"tcp", number}
									judged := Answer{}
									if say, ok := j.joins(own.Network, at.Network); ok {
										judged = j.through(from, to, port, pair{own.IP, at, say, own.Network != at.Network}, nil)
									}
									check(from, own.IP, to, at, number, judged)
								}
							}
						}
					}
				})
			}
			inside(t, b.prefix+"w", func() {
				for m := range s.Instances {
					to := &s.Instances[m]
					for _, at := range to.Addresses {
						if !at.Outside {
							continue
						}
						for _, number := range packetPorts {
							check(From{Address: world}, world, to, at, number, j.AskAt(From{Address: world}, to, at.IP, Port{"tcp", number}))
						}
					}
				}
			})
		})
	}
	t.Logf("%d connections were tried in %d estates, %d got through", tried, estates, open)
	if !t.Failed() && (open == 0 || open == tried) {
		t.Errorf("%d of %d got through: it says nothing", open, tried)
	}
}
