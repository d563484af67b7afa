package lab

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// silence is how long a machine whose rules let nothing in is waited for. Real ones are waited for longer.
const silence = 3 * time.Second

// FirstPassword is the first password of every instance whose key pair can seal one.
const FirstPassword = "neap tide"

// read reads what is sent.
func read(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(into); err != nil {
		faultOf(w, http.StatusBadRequest, "badRequest", err.Error())
		return false
	}
	return true
}

// create launches an instance: it is built, then runs, and a machine stands behind it that one walks to.
func (c *Cloud) create(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Server struct {
			Name     string
			ImageRef string `json:"imageRef"`
			Size     string `json:"flavorRef"`
			Key      string `json:"key_name"`
			Networks []struct{ UUID string }
			Groups   []struct{ Name string } `json:"security_groups"`
			Metadata map[string]string
			UserData string `json:"user_data"`
		}
	}
	if !read(w, r, &asked) {
		return
	}
	s := asked.Server
	image, known := cloudImages[s.ImageRef]
	_, sized := cloudSizes[strings.TrimPrefix(s.Size, "z-")]
	switch {
	case s.Name == "" || !known || !sized || len(s.Networks) != 1:
		faultOf(w, http.StatusBadRequest, "badRequest", "Invalid input: a name, an image, a flavor and one network are wanted")
		return
	case s.Key != "" && !slices.Contains(c.pairNames(), s.Key):
		faultOf(w, http.StatusBadRequest, "badRequest", "Invalid key_name provided.")
		return
	}
	if _, err := base64.StdEncoding.DecodeString(s.UserData); err != nil {
		faultOf(w, http.StatusBadRequest, "badRequest", "User data needs to be valid base 64.")
		return
	}
	now := time.Now()
	i := &instance{
		id: "i-" + hex.EncodeToString(randomBytes(4)), name: s.Name, status: "BUILD", task: "spawning", image: s.ImageRef, key: s.Key, network: s.Networks[0].UUID,
		size: strings.TrimPrefix(s.Size, "z-"), meta: map[string]string{}, launched: now, updated: now,
	}
	maps.Copy(i.meta, s.Metadata)
	for _, g := range s.Groups {
		i.groups = append(i.groups, strings.TrimPrefix(g.Name, "g-"))
	}
	c.servers = append(c.servers, i)
	c.later(i, func() { c.built(i, image[2]) })
	answer(w, http.StatusAccepted, object{"server": object{"id": i.id, "links": []object{}, "security_groups": s.Groups}})
}

// built has an instance run. It is called with the lock.
func (c *Cloud) built(i *instance, login string) {
	network := map[string]string{"n-reef": "10.61.4.", "n-shore": "10.61.0.", "n-deep": "10.62.0."}[i.network]
	inside, err := netip.ParseAddr(network + strconv.Itoa(c.next))
	if err != nil {
		i.status, i.task, i.fault = "ERROR", "", "No valid host was found: there is no such network"
		return
	}
	c.next++
	i.inside = inside
	if i.network == "n-reef" || i.network == "n-shore" {
		if err := c.bay.launched(i, login); err != nil {
			i.status, i.task, i.fault = "ERROR", "", err.Error()
			return
		}
	}
	i.status, i.task = "ACTIVE", ""
}

// launched builds the machine of an instance that was launched.
func (b *Lab) launched(i *instance, login string) error {
	key, err := newKey("bcrypt")
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return err
	}
	if login == "" {
		login = "debian"
	}
	h := &Host{Name: i.name, Address: i.inside.String(), Accounts: map[string]Account{}, bay: b, conns: map[net.Conn]bool{}, signer: signer}
	account := Account{}
	if public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(b.cloud.publicOf(i.key))); err == nil {
		account.Keys = []ssh.PublicKey{public}
	}
	h.Accounts[login] = account
	h.files = newTree(h, nil)
	if err := h.plantLists(); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return fmt.Errorf("the bay is closing")
	}
	b.hosts[i.id] = h
	i.host = h
	return nil
}

// pairNames are the key pairs that there are. It is called with the lock, as publicOf is.
func (c *Cloud) pairNames() []string {
	return append([]string{"shore", "gauge", "tide", "mast", "survey", "sounding"}, slices.Sorted(maps.Keys(c.pairs))...)
}

// publicOf is the public half of a key pair, "" where nobody has it.
func (c *Cloud) publicOf(pair string) string {
	if public, ok := c.pairs[pair]; ok {
		return public
	}
	if !slices.Contains(c.pairNames(), pair) {
		return ""
	}
	text, err := os.ReadFile(filepath.Join(c.bay.Dir, "lab", pair+".pem.pub"))
	if err != nil {
		return ""
	}
	return string(text)
}

// flavors are the sizes.
func (c *Cloud) flavors(w http.ResponseWriter, r *http.Request) {
	var all []object
	for _, name := range slices.Sorted(maps.Keys(cloudSizes)) {
		z := cloudSizes[name]
		all = append(all, object{"id": "z-" + name, "name": name, "vcpus": z[0], "ram": z[1], "disk": z[2], "swap": "", "rxtx_factor": 1.0, "os-flavor-access:is_public": true})
	}
	c.list(w, r, "flavors", all)
}

// listImages are the images.
func (c *Cloud) listImages(w http.ResponseWriter, r *http.Request) {
	var all []object
	for _, id := range slices.Sorted(maps.Keys(cloudImages)) {
		image := cloudImages[id]
		all = append(all, object{"id": id, "name": image[0], "status": "active", "os_distro": image[1], "os_admin_user": image[2]})
	}
	c.list(w, r, "images", all)
}

// createPair takes the public half of a key pair.
func (c *Cloud) createPair(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Pair struct {
			Name   string
			Public string `json:"public_key"`
		} `json:"keypair"`
	}
	if !read(w, r, &asked) {
		return
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(asked.Pair.Public))
	switch {
	case slices.Contains(c.pairNames(), asked.Pair.Name):
		faultOf(w, http.StatusConflict, "conflictingRequest", "Key pair '"+asked.Pair.Name+"' already exists.")
		return
	case asked.Pair.Name == "" || err != nil:
		faultOf(w, http.StatusBadRequest, "badRequest", "Keypair data is invalid: failed to generate fingerprint")
		return
	}
	c.pairs[asked.Pair.Name] = asked.Pair.Public
	answer(w, http.StatusOK, object{"keypair": object{"name": asked.Pair.Name, "public_key": asked.Pair.Public, "fingerprint": ssh.FingerprintLegacyMD5(public), "user_id": "u-keeper", "type": "ssh"}})
}

// createGroup makes a group that lets everything out, as such groups do.
func (c *Cloud) createGroup(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Group struct{ Name string } `json:"security_group"`
	}
	if !read(w, r, &asked) {
		return
	}
	if _, taken := c.rules[asked.Group.Name]; taken || asked.Group.Name == "" {
		faultOf(w, http.StatusConflict, "conflictingRequest", "there is such a group")
		return
	}
	c.rules[asked.Group.Name] = []cloudRule{anywhere}
	answer(w, http.StatusCreated, object{"security_group": c.groupOf(asked.Group.Name)})
}

// createRule adds a rule to a group.
func (c *Cloud) createRule(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Rule struct {
			Group     string `json:"security_group_id"`
			Direction string
			Protocol  string
			First     int    `json:"port_range_min"`
			Last      int    `json:"port_range_max"`
			Prefix    string `json:"remote_ip_prefix"`
			From      string `json:"remote_group_id"`
			Note      string `json:"description"`
		} `json:"security_group_rule"`
	}
	if !read(w, r, &asked) {
		return
	}
	name := strings.TrimPrefix(asked.Rule.Group, "g-")
	rules, known := c.rules[name]
	if !known {
		faultOf(w, http.StatusNotFound, "itemNotFound", "Security group "+asked.Rule.Group+" does not exist")
		return
	}
	rule := cloudRule{
		in: asked.Rule.Direction == "ingress", protocol: asked.Rule.Protocol, first: asked.Rule.First, last: asked.Rule.Last, from: asked.Rule.Prefix,
		id: "r-" + hex.EncodeToString(randomBytes(6)), note: asked.Rule.Note,
	}
	if asked.Rule.From != "" {
		rule.from = strings.TrimPrefix(asked.Rule.From, "g-")
	}
	if slices.ContainsFunc(rules, rule.same) {
		faultOf(w, http.StatusConflict, "conflictingRequest", "Security group rule already exists.")
		return
	}
	c.rules[name] = append(slices.Clone(rules), rule)
	answer(w, http.StatusCreated, object{"security_group_rule": ruleOf(name, len(rules), rule)})
}

// deleteRule takes a rule out of its group.
func (c *Cloud) deleteRule(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	for name, rules := range c.rules {
		for n, rule := range rules {
			if ruleID(name, n, rule) == id {
				kept := slices.Clone(rules)
				for k := range kept {
					kept[k].id = ruleID(name, k, kept[k]) // those behind it keep theirs
				}
				c.rules[name] = slices.Delete(kept, n, n+1)
				w.WriteHeader(http.StatusNoContent)
				return
			}
		}
	}
	faultOf(w, http.StatusNotFound, "itemNotFound", "Security group rule "+id+" does not exist")
}

// listRules lists the rules of a group, or of all.
func (c *Cloud) listRules(w http.ResponseWriter, r *http.Request) {
	var all []object
	of := r.URL.Query().Get("security_group_id")
	for _, name := range slices.Sorted(maps.Keys(c.rules)) {
		for n, rule := range c.rules[name] {
			if of == "" || of == "g-"+name {
				all = append(all, ruleOf(name, n, rule))
			}
		}
	}
	c.list(w, r, "security_group_rules", all)
}

// password is the first password of an instance, sealed to its key pair where that is an RSA one.
func (c *Cloud) password(w http.ResponseWriter, _ *http.Request, i *instance) {
	sealed := ""
	if public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(c.publicOf(i.key))); err == nil {
		if crypto, ok := public.(ssh.CryptoPublicKey); ok {
			if key, ok := crypto.CryptoPublicKey().(*rsa.PublicKey); ok {
				//lint:ignore SA1019 it is the form such passwords are sealed in
				if raw, err := rsa.EncryptPKCS1v15(rand.Reader, key, []byte(FirstPassword)); err == nil {
					sealed = base64.StdEncoding.EncodeToString(raw)
				}
			}
		}
	}
	answer(w, http.StatusOK, object{"password": sealed})
}

// lets tells whether the rules of a host's instance let a connection of another host in at a port. A host
// that is no instance lets everybody in.
func (c *Cloud) lets(from, to *Host, port string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	there, here := c.of(to), c.of(from)
	if there == nil {
		return true
	}
	number, _ := strconv.Atoi(port)
	seen := netip.MustParseAddr(InnerAddress)
	if here != nil && from.Name != "quay" {
		seen = here.inside
	}
	for _, group := range there.groups {
		for _, rule := range c.rules[group] {
			if !rule.in || rule.protocol != "" && rule.protocol != "tcp" || rule.last > 0 && (number < rule.first || number > rule.last) {
				continue
			}
			if prefix, err := netip.ParsePrefix(rule.from); err == nil && prefix.Contains(seen) || here != nil && slices.Contains(here.groups, rule.from) {
				return true
			}
		}
	}
	return false
}

// of is the instance of a host, nil for none. It is called with the lock.
func (c *Cloud) of(h *Host) *instance {
	for _, i := range c.servers {
		if i.host == h && i.status != "DELETED" {
			return i
		}
	}
	return nil
}

// Fault is what is wrong with the cloud for a while.
type Fault string

// The faults.
const (
	Well      Fault = ""
	Throttled Fault = "throttled" // it asks to be left alone for five seconds
	Slow      Fault = "slow"      // it answers after five seconds
	Broken    Fault = "broken"    // what it answers is cut short
	Expired   Fault = "expired"   // no token is taken any more
)

// AllFaults are all of them.
var AllFaults = []Fault{Throttled, Slow, Broken, Expired}

// Fail has something be wrong with the cloud for a while.
func (c *Cloud) Fail(f Fault, while time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.fault, c.until = f, time.Now().Add(while)
	if f == Expired {
		clear(c.tokens)
		c.fault = Well
	}
}

// fail has something be wrong on demand.
func (c *Cloud) fail(w http.ResponseWriter, r *http.Request) {
	fault := Fault(r.URL.Query().Get("kind"))
	while, err := time.ParseDuration(r.URL.Query().Get("for"))
	if err != nil || while < 0 || fault != Well && !slices.Contains(AllFaults, fault) {
		faultOf(w, http.StatusBadRequest, "badRequest", fmt.Sprintf("kind is one of %v, for a time as 30s", AllFaults))
		return
	}
	c.Fail(fault, while)
	w.WriteHeader(http.StatusNoContent)
}

// SomebodyElse launches an instance after a while, as somebody else who uses the cloud does.
func (c *Cloud) SomebodyElse(after time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	i := &instance{id: "i-wader", name: "wader", status: "BUILD", task: "spawning", image: "im-plain", key: "sounding", network: "n-reef", groups: []string{"reef"}, size: "skiff", meta: map[string]string{"owner": "survey"}, launched: now, updated: now}
	c.rounds[i.id] = time.AfterFunc(after, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		i.launched, i.updated = time.Now(), time.Now()
		c.servers = append(c.servers, i)
		c.later(i, func() { c.built(i, "debian") })
	})
}

// faulty answers a request as the fault has it, where there is one.
func (c *Cloud) faulty(w http.ResponseWriter, r *http.Request) bool {
	c.mu.Lock()
	fault := c.fault
	if time.Now().After(c.until) {
		fault = Well
	}
	c.mu.Unlock()
	switch fault {
	case Throttled:
		w.Header().Set("Retry-After", "5")
		faultOf(w, http.StatusTooManyRequests, "overLimit", "This request was rate-limited.")
		return true
	case Slow:
		select {
		case <-r.Context().Done():
		case <-c.bay.ctx.Done():
		case <-time.After(5 * time.Second):
		}
	case Broken:
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"servers": [{"id": "i-`)
		return true
	}
	return false
}
