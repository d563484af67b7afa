package estate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/gophercloud/gophercloud/v2"
	"github.com/gophercloud/gophercloud/v2/openstack/compute/v2/flavors"
	"github.com/gophercloud/gophercloud/v2/openstack/compute/v2/keypairs"
	"github.com/gophercloud/gophercloud/v2/openstack/compute/v2/servers"
	"github.com/gophercloud/gophercloud/v2/openstack/image/v2/images"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/security/groups"
	"github.com/gophercloud/gophercloud/v2/openstack/networking/v2/extensions/security/rules"
	"golang.org/x/crypto/ssh"

	"meatus/core/sanitize"
	"meatus/core/words"
)

// Size is how large an instance can be made.
type Size struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	CPUs   int    `json:"cpus"`
	Memory int    `json:"memory"` // MiB
	Disk   int    `json:"disk"`   // GiB
}

// String is a size in words: "small, 1 CPU, 512 MiB, disk of 1 GiB".
func (z Size) String() string {
	return fmt.Sprintf("%s, %s, %d MiB, disk of %d GiB", z.Name, words.Count(z.CPUs, "CPU"), z.Memory, z.Disk)
}

// Offer is what instances can be launched from.
type Offer struct {
	Images   []Image
	Sizes    []Size
	Networks []Network // those inside alone
	Groups   []Group
	KeyPairs []KeyPair
}

// mostLaunched is how many instances one launch makes at most.
const mostLaunched = 50

// maxFirstBoot is how long a first-boot text may be: what the Compute API takes of it once it is base64.
const maxFirstBoot = 65535 / 4 * 3

// Launch is what is to be launched. Images, sizes and so on are named as people name them, or by their ids.
type Launch struct {
	Name      string            `json:"name"`
	Image     string            `json:"image"`
	Size      string            `json:"size"`
	Network   string            `json:"network"`
	Groups    []string          `json:"groups"`
	KeyPair   string            `json:"key_pair"`
	Tags      map[string]string `json:"tags"`
	Count     int               `json:"count"`
	FirstBoot string            `json:"first_boot,omitempty"`
	From      netip.Prefix      `json:"from,omitzero"` // who alone may knock at 22, by a group of its own
}

// Names are what the instances will be called: the name, with numbers where there are several.
func (l Launch) Names() []string {
	if l.Count == 1 {
		return []string{l.Name}
	}
	names := make([]string, max(l.Count, 0))
	for n := range names {
		names[n] = fmt.Sprintf("%s-%d", l.Name, n+1)
	}
	return names
}

// Like is a launch of another instance like one: by the same image, size, network, groups, key pair and tags.
func (o *Offer) Like(s *Snapshot, i *Instance) Launch {
	l := Launch{Name: i.Name, KeyPair: i.KeyPair, Count: 1, Size: i.Size, Image: i.Image, Tags: map[string]string{}}
	for k, v := range i.Tags {
		if k != launchTag {
			l.Tags[k] = v
		}
	}
	if m, ok := s.ImageOf(i); ok && m.Name != "" {
		l.Image = m.Name
	}
	for _, a := range i.Addresses {
		if !a.Outside && a.Network != "" {
			l.Network = s.NetworkName(a.Network)
			break
		}
	}
	for _, id := range i.Groups {
		l.Groups = append(l.Groups, s.groupName(id))
	}
	l.fill(o)
	return l
}

// Fresh is a launch of the first that is offered of everything.
func (o *Offer) Fresh() Launch {
	l := Launch{Name: "instance", Count: 1, Tags: map[string]string{}}
	l.fill(o)
	return l
}

// fill takes the first that is offered where nothing is said.
func (l *Launch) fill(o *Offer) {
	if l.Image == "" && len(o.Images) > 0 {
		l.Image = o.Images[0].Name
	}
	if l.Size == "" && len(o.Sizes) > 0 {
		l.Size = o.Sizes[0].Name
	}
	if l.Network == "" && len(o.Networks) > 0 {
		l.Network = o.Networks[0].Name
	}
	if l.KeyPair == "" && len(o.KeyPairs) > 0 {
		l.KeyPair = o.KeyPairs[0].Name
	}
}

func (s *Snapshot) groupName(id string) string {
	for _, g := range s.Groups {
		if g.ID == id && g.Name != "" {
			return g.Name
		}
	}
	return id
}

// named finds the one of a name or an id; why says that there is none, or several.
func named[T any](all []T, what, want string, id, name func(T) string) (found T, why string) {
	n := 0
	for _, one := range all {
		if id(one) == want {
			return one, ""
		}
		if name(one) == want {
			found = one
			n++
		}
	}
	switch {
	case want == "":
		return found, "no " + what + " is chosen"
	case n == 0:
		return found, fmt.Sprintf("there is no %s %s", what, sanitize.Line(want, 60))
	case n > 1:
		return found, fmt.Sprintf("%ss are called %s; name the one by its id", words.Count(n, what), sanitize.Line(want, 60))
	}
	return found, ""
}

// settled is a launch with everything it names found.
type settled struct {
	image   Image
	size    Size
	network Network
	groups  []Group
}

// settle finds what a launch names; wrong is what is wrong with it, each in words.
func (l Launch) settle(o *Offer) (s settled, wrong []string) {
	add := func(why string) {
		if why != "" {
			wrong = append(wrong, why)
		}
	}
	var why string
	switch {
	case l.Name == "":
		add("it has no name")
	case len(l.Name) > 200 || sanitize.Line(l.Name, 200) != l.Name:
		add("its name can not be that")
	}
	if l.Count < 1 || l.Count > mostLaunched {
		add(fmt.Sprintf("%d are not launched at once: 1 to %d are", l.Count, mostLaunched))
	}
	s.image, why = named(o.Images, "image", l.Image, func(m Image) string { return m.ID }, func(m Image) string { return m.Name })
	add(why)
	s.size, why = named(o.Sizes, "size", l.Size, func(z Size) string { return z.ID }, func(z Size) string { return z.Name })
	add(why)
	s.network, why = named(o.Networks, "network", l.Network, func(n Network) string { return n.ID }, func(n Network) string { return n.Name })
	add(why)
	for _, want := range l.Groups {
		g, why := named(o.Groups, "group", want, func(g Group) string { return g.ID }, func(g Group) string { return g.Name })
		s.groups = append(s.groups, g)
		add(why)
	}
	if l.KeyPair != "" {
		_, why = named(o.KeyPairs, "key pair", l.KeyPair, func(p KeyPair) string { return p.Name }, func(p KeyPair) string { return p.Name })
		add(why)
	}
	if len(l.FirstBoot) > maxFirstBoot {
		add(fmt.Sprintf("the first-boot text has %d bytes: %d are taken", len(l.FirstBoot), maxFirstBoot))
	}
	for k, v := range l.Tags {
		if k == "" || len(k) > 255 || len(v) > 255 {
			add("the tag " + sanitize.Line(k, 40) + " is empty or too long: 255 bytes are taken")
		}
	}
	return s, wrong
}

// Review is what a launch would do, before it does.
type Review struct {
	Wrong []string // why it can not be launched
	Ajar  []string // what is better thought about
	Does  []string // what becomes of it
	Alone bool     // everybody could knock at 22, where From could be an address alone
}

// Review reviews a launch. fileOf finds the file here of a key pair, "" for none.
func (l Launch) Review(o *Offer, fileOf func(KeyPair) string) Review {
	s, wrong := l.settle(o)
	r := Review{Wrong: wrong}
	if len(wrong) > 0 {
		return r
	}
	r.Does = append(r.Does, fmt.Sprintf("%s of %s: %s", words.Count(l.Count, "instance"), s.image.Name, s.size))
	cidrs := ""
	if len(s.network.CIDRs) > 0 {
		cidrs = " (" + s.network.CIDRs[0].String() + ")"
	}
	r.Does = append(r.Does, "an address inside "+cmp.Or(s.network.Name, s.network.ID)+cidrs+", and none outside")
	login := s.image.UsualLogin()
	if login == "" {
		r.Ajar = append(r.Ajar, "the usual login of "+s.image.Name+" is not known: a session will have to name one")
	} else {
		r.Does = append(r.Does, "one logs in as "+login)
	}
	if l.KeyPair == "" {
		r.Ajar = append(r.Ajar, "without a key pair nobody logs in by a key")
	} else {
		pair, _ := named(o.KeyPairs, "key pair", l.KeyPair, func(p KeyPair) string { return p.Name }, func(p KeyPair) string { return p.Name })
		if file := fileOf(pair); file == "" {
			r.Ajar = append(r.Ajar, "no file of key pair "+l.KeyPair+" is here: you could not log in")
		} else {
			r.Does = append(r.Does, "by "+file+", which is key pair "+l.KeyPair)
		}
	}
	knocks := false
	for _, g := range s.groups {
		for _, rule := range g.Rules {
			if !rule.Inbound || !rule.About("tcp", 22) {
				continue
			}
			knocks = true
			if rule.Group == "" && rule.CIDR.Bits() == 0 {
				r.Alone = true
				r.Ajar = append(r.Ajar, "everybody may knock at 22, by group "+cmp.Or(g.Name, g.ID))
			} else {
				r.Does = append(r.Does, cmp.Or(g.Name, g.ID)+": "+(&Snapshot{Groups: o.Groups}).Sentence(rule))
			}
		}
	}
	switch {
	case l.From.IsValid():
		r.Does = append(r.Does, "a group "+groupFrom(l.From)+" that lets in tcp 22 from "+l.From.String()+" alone")
		if l.From.Bits() == 0 {
			r.Ajar = append(r.Ajar, l.From.String()+" is everybody")
		}
	case !knocks:
		r.Ajar = append(r.Ajar, "no group lets anybody knock at 22")
	}
	if len(l.Tags) > 0 {
		var tags []string
		for k, v := range l.Tags {
			tags = append(tags, k+"="+v)
		}
		slices.Sort(tags)
		r.Does = append(r.Does, "tags "+strings.Join(tags, ", "))
	}
	if l.FirstBoot != "" {
		first, _, _ := strings.Cut(l.FirstBoot, "\n")
		r.Does = append(r.Does, fmt.Sprintf("%d bytes run at the first boot: %s", len(l.FirstBoot), sanitize.Line(first, 40)))
		if strings.Contains(l.FirstBoot, "PRIVATE KEY-----") {
			r.Ajar = append(r.Ajar, "the first-boot text holds a private key: whoever is on the instance can read it")
		}
	}
	r.Does = append(r.Does, "called "+strings.Join(l.Names()[:min(l.Count, 4)], ", ")+map[bool]string{true: " and so on"}[l.Count > 4])
	return r
}

// Alone is a launch that lets one address alone knock at 22: without the groups that let everybody.
func (l Launch) Alone(o *Offer, from netip.Prefix) Launch {
	kept := []string{}
	for _, want := range l.Groups {
		g, why := named(o.Groups, "group", want, func(g Group) string { return g.ID }, func(g Group) string { return g.Name })
		everybody := slices.ContainsFunc(g.Rules, func(r Rule) bool { return r.Inbound && r.About("tcp", 22) && r.Group == "" && r.CIDR.Bits() == 0 })
		if why != "" || !everybody {
			kept = append(kept, want)
		}
	}
	l.Groups, l.From = kept, from
	return l
}

// ParseFrom reads an address, or a range of them, that is to be let in.
func ParseFrom(text string) (netip.Prefix, error) {
	if ip, err := netip.ParseAddr(text); err == nil && ip.Zone() == "" {
		return netip.PrefixFrom(ip.Unmap(), ip.Unmap().BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	switch {
	case err != nil:
		return p, fmt.Errorf("%s is no address and no range of addresses", sanitize.Line(text, 60))
	case p != p.Masked():
		return p, fmt.Errorf("%s has bits set behind its length; write %s", sanitize.Line(text, 60), p.Masked())
	}
	return p, nil
}

// groupFrom is what the group is called that lets a range in.
func groupFrom(from netip.Prefix) string {
	if from.IsSingleIP() {
		return "ssh-from-" + from.Addr().String()
	}
	return "ssh-from-" + strings.ReplaceAll(from.String(), "/", "-")
}

// Offer asks the source what instances can be launched from, and adds what a snapshot knows.
func (s *Source) Offer(ctx context.Context, known *Snapshot) (*Offer, error) {
	c, err := s.dialled(ctx)
	if err != nil {
		return nil, err
	}
	o := &Offer{Groups: known.Groups, KeyPairs: known.KeyPairs}
	outside := map[string]bool{}
	for _, r := range known.Instances {
		for _, a := range r.Addresses {
			if a.Outside && a.Network != "" {
				outside[a.Network] = true
			}
		}
	}
	for _, n := range known.Networks {
		if !n.External && !outside[n.ID] {
			o.Networks = append(o.Networks, n)
		}
	}
	err = each(ctx, flavors.ListDetail(c.compute, flavors.ListOpts{Limit: pageLength}), flavors.ExtractFlavors, func(f flavors.Flavor) {
		o.Sizes = append(o.Sizes, Size{text(f.ID), text(f.Name), f.VCPUs, f.RAM, f.Disk})
	})
	if err != nil {
		return nil, told(err)
	}
	err = each(ctx, images.List(c.image, images.ListOpts{Limit: pageLength, Status: images.ImageStatusActive}), images.ExtractImages, func(m images.Image) {
		o.Images = append(o.Images, imageOf(&m))
	})
	if err != nil {
		return nil, told(err)
	}
	slices.SortStableFunc(o.Sizes, func(a, b Size) int {
		return cmp.Or(cmp.Compare(a.Memory, b.Memory), cmp.Compare(a.CPUs, b.CPUs), strings.Compare(a.Name, b.Name))
	})
	slices.SortStableFunc(o.Images, func(a, b Image) int { return strings.Compare(a.Name, b.Name) })
	return o, nil
}

// launchTag marks the instances of one launch, so that those of one that was cut short are found.
const launchTag = "meatus-launch"

// Launch asks the source for the instances of a launch, one after the other, and tells of each that is
// begun. Mark is written to each before; the launch is done when [Source.Await] says so of each.
func (s *Source) Launch(ctx context.Context, l Launch, o *Offer, mark string, begun func(name, id string)) error {
	c, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	with, wrong := l.settle(o)
	if len(wrong) > 0 {
		return errors.New(strings.Join(wrong, "; "))
	}
	options := servers.CreateOpts{
		ImageRef: with.image.ID, FlavorRef: with.size.ID, Networks: []servers.Network{{UUID: with.network.ID}}, UserData: []byte(l.FirstBoot),
		Metadata: map[string]string{launchTag: mark}, SecurityGroups: []string{},
	}
	for k, v := range l.Tags {
		options.Metadata[k] = v
	}
	for _, g := range with.groups {
		options.SecurityGroups = append(options.SecurityGroups, g.ID)
	}
	if l.From.IsValid() {
		id, err := c.groupFrom(ctx, l.From)
		if err != nil {
			return err
		}
		options.SecurityGroups = append(options.SecurityGroups, id)
	}
	for _, name := range l.Names() {
		options.Name = name
		var body servers.CreateOptsBuilder = options
		if l.KeyPair != "" {
			body = keypairs.CreateOptsExt{CreateOptsBuilder: options, KeyName: l.KeyPair}
		}
		n, err := servers.Create(ctx, c.compute, body, nil).Extract()
		if err != nil {
			return fmt.Errorf("%s: %w", name, told(err))
		}
		begun(name, text(n.ID))
	}
	return nil
}

// groupFrom is the id of a group that lets a range alone in at 22; it makes one where there is none.
func (c *cloud) groupFrom(ctx context.Context, from netip.Prefix) (string, error) {
	name, id := groupFrom(from), ""
	err := each(ctx, groups.List(c.network, groups.ListOpts{Name: name}), groups.ExtractGroups, func(g groups.SecGroup) {
		for _, r := range g.Rules { // one of that name that somebody has changed is not what is meant
			if r.Direction == "ingress" && (r.RemoteIPPrefix != from.Masked().String() || r.PortRangeMin != 22 || r.PortRangeMax != 22) {
				return
			}
		}
		id = g.ID
	})
	if err != nil || id != "" {
		return id, err
	}
	g, err := groups.Create(ctx, c.network, groups.CreateOpts{Name: name, Description: "tcp 22 from " + from.String() + " alone"}).Extract()
	if err != nil {
		return "", told(err)
	}
	family := rules.EtherType4
	if from.Addr().Is6() {
		family = rules.EtherType6
	}
	_, err = rules.Create(ctx, c.network, rules.CreateOpts{
		Direction: rules.DirIngress, EtherType: family, SecGroupID: g.ID, Protocol: rules.ProtocolTCP, PortRangeMin: 22, PortRangeMax: 22, RemoteIPPrefix: from.Masked().String(),
	}).Extract()
	if err != nil {
		return "", told(err)
	}
	return g.ID, nil
}

// SendKeyPair makes a key pair at the source of a public key, as an authorized_keys line has it.
func (s *Source) SendKeyPair(ctx context.Context, name, public string) error {
	c, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(public))
	if err != nil {
		return fmt.Errorf("that is no public key: %w", err)
	}
	made, err := keypairs.Create(ctx, c.compute, keypairs.CreateOpts{Name: name, PublicKey: strings.TrimSpace(public)}).Extract()
	switch {
	case gophercloud.ResponseCodeIs(err, http.StatusConflict):
		return fmt.Errorf("there is a key pair %s already", sanitize.Line(name, 60))
	case err != nil:
		return told(err)
	}
	if back, _, _, _, err := ssh.ParseAuthorizedKey([]byte(made.PublicKey)); err != nil || ssh.FingerprintSHA256(back) != ssh.FingerprintSHA256(key) {
		return errors.New("it was sent, and the source tells of another key under that name")
	}
	return nil
}

// ErrNoPassword says that an instance has no first password.
var ErrNoPassword = errors.New("it has no first password: its image makes none, or it was not sealed yet")

// SealedPassword is the first password of an instance as the source hands it out: sealed to its key pair,
// in base64.
func (s *Source) SealedPassword(ctx context.Context, id string) (string, error) {
	c, err := s.dialled(ctx)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, requestTime)
	defer cancel()
	result := servers.GetPassword(ctx, c.compute, id)
	if result.Err != nil {
		return "", told(result.Err)
	}
	sealed, err := result.ExtractPassword(nil)
	if err != nil || sealed == "" {
		return "", ErrNoPassword
	}
	return sealed, nil
}
