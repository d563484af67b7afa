package lab

import (
	"cmp"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// object is a JSON object.
type object = map[string]any

// tokenLife is how long a token of the cloud's is taken.
const tokenLife = time.Hour

// newestMicroversion of the Compute API is told and taken.
const newestMicroversion = 93

// handler answers the requests of the APIs.
func (c *Cloud) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusMultipleChoices, object{"versions": object{"values": []object{{"id": "v3.14", "status": "stable", "links": []object{{"rel": "self", "href": c.URL() + "/v3/"}}}}}})
	})
	mux.HandleFunc("POST /v3/auth/tokens", c.login)
	mux.HandleFunc("POST /lab/fault", c.fail)
	versions := func(path, id string) {
		mux.HandleFunc("GET "+path+"/{$}", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, http.StatusOK, object{"versions": []object{{"id": id, "status": "CURRENT", "links": []object{{"rel": "self", "href": c.URL() + path + "/" + strings.Split(id, ".")[0] + map[string]string{"/network": ".0"}[path] + "/"}}}}})
		})
	}
	versions("/network", "v2.0")
	versions("/image", "v2.9")
	mux.HandleFunc("GET /compute/v2.1/{$}", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, object{"version": object{"id": "v2.1", "status": "CURRENT", "version": fmt.Sprintf("2.%d", newestMicroversion), "min_version": "2.1", "links": []object{{"rel": "self", "href": c.URL() + "/compute/v2.1/"}}}})
	})
	for path, do := range c.answers() {
		mux.HandleFunc(path, c.guarded(do))
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.mu.Lock()
		c.requests++
		intercept := c.intercept
		c.mu.Unlock()
		if r.URL.Path != "/lab/fault" && c.faulty(w, r) {
			return
		}
		if intercept == nil || !intercept(w, r) {
			mux.ServeHTTP(w, r)
		}
	})
}

// answers are what is answered to who has a token, by method and path.
func (c *Cloud) answers() map[string]http.HandlerFunc {
	return map[string]http.HandlerFunc{
		"GET /compute/v2.1/servers/detail": func(w http.ResponseWriter, r *http.Request) {
			var all []object
			since, err := time.Parse(time.RFC3339, r.URL.Query().Get("changes-since"))
			for _, i := range c.servers {
				if i.status == "DELETED" && err != nil || err == nil && i.updated.Add(c.Skew).Before(since) {
					continue // what was ended is told to those who ask what has changed
				}
				all = append(all, c.serverOf(i, false))
			}
			c.list(w, r, "servers", all)
		},
		"POST /compute/v2.1/servers":                        c.create,
		"GET /compute/v2.1/flavors/detail":                  c.flavors,
		"POST /compute/v2.1/os-keypairs":                    c.createPair,
		"POST /network/v2.0/security-groups":                c.createGroup,
		"POST /network/v2.0/security-group-rules":           c.createRule,
		"GET /network/v2.0/security-group-rules":            c.listRules,
		"DELETE /network/v2.0/security-group-rules/{id}":    c.deleteRule,
		"GET /image/v2/images":                              c.listImages,
		"GET /compute/v2.1/servers/{id}/os-server-password": c.onServer(c.password),
		"GET /compute/v2.1/servers/{id}": c.onServer(func(w http.ResponseWriter, _ *http.Request, i *instance) {
			answer(w, http.StatusOK, object{"server": c.serverOf(i, true)})
		}),
		"DELETE /compute/v2.1/servers/{id}": c.onServer(func(w http.ResponseWriter, _ *http.Request, i *instance) {
			_ = c.act(i, "delete") // it is done in every state
			w.WriteHeader(http.StatusNoContent)
		}),
		"POST /compute/v2.1/servers/{id}/action": c.onServer(c.action),
		"GET /compute/v2.1/os-keypairs":          c.keyPairs,
		"GET /network/v2.0/networks":             c.networks,
		"GET /network/v2.0/subnets":              c.subnets,
		"GET /network/v2.0/ports":                c.ports,
		"GET /network/v2.0/routers": func(w http.ResponseWriter, r *http.Request) {
			c.list(w, r, "routers", []object{{"id": "r-harbour", "name": "harbour", "status": "ACTIVE", "admin_state_up": true, "external_gateway_info": object{"network_id": "n-harbour"}}})
		},
		"GET /network/v2.0/security-groups": c.groups,
		"GET /network/v2.0/floatingips": func(w http.ResponseWriter, r *http.Request) {
			c.list(w, r, "floatingips", []object{{"id": "f-quay", "floating_ip_address": "203.0.113.10", "fixed_ip_address": "10.61.0.10", "floating_network_id": "n-harbour", "port_id": "p-quay", "status": "ACTIVE"}})
		},
		"GET /image/v2/images/{id}": func(w http.ResponseWriter, r *http.Request) {
			image, ok := cloudImages[r.PathValue("id")]
			if !ok {
				faultOf(w, http.StatusNotFound, "itemNotFound", "No image found with ID "+r.PathValue("id"))
				return
			}
			answer(w, http.StatusOK, object{"id": r.PathValue("id"), "name": image[0], "status": "active", "os_distro": image[1], "os_admin_user": image[2]})
		},
	}
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // who asked may be gone
}

func faultOf(w http.ResponseWriter, status int, kind, say string) {
	answer(w, status, object{kind: object{"code": status, "message": say}})
}

// login gives a token for the application credential, or for the password.
func (c *Cloud) login(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Auth struct {
			Identity struct {
				Credential struct{ ID, Secret string } `json:"application_credential"`
				Password   struct {
					User struct{ Name, Password string }
				}
			}
		}
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&asked); err != nil {
		faultOf(w, http.StatusBadRequest, "error", err.Error())
		return
	}
	by := asked.Auth.Identity
	if !(by.Credential.ID == "bay" && by.Credential.Secret == c.secret) && !(by.Password.User.Name == "keeper" && by.Password.User.Password == c.secret) {
		faultOf(w, http.StatusUnauthorized, "error", "The request you have made requires authentication.")
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	token, ends := hex.EncodeToString(randomBytes(24)), time.Now().Add(tokenLife)
	c.tokens[token] = ends
	var catalog []object
	for kind, path := range map[string]string{"identity": "/v3", "compute": "/compute/v2.1", "network": "/network", "image": "/image"} {
		catalog = append(catalog, object{"type": kind, "name": kind, "id": kind, "endpoints": []object{{"id": kind + "-public", "interface": "public", "region": "Bay", "region_id": "Bay", "url": c.URL() + path}}})
	}
	w.Header().Set("X-Subject-Token", token)
	answer(w, http.StatusCreated, object{"token": object{
		"methods": []string{"application_credential"}, "expires_at": ends.Add(c.Skew).UTC().Format("2006-01-02T15:04:05.000000Z"), "issued_at": time.Now().UTC().Format("2006-01-02T15:04:05.000000Z"),
		"project": object{"id": "p-bay", "name": "bay", "domain": object{"id": "default", "name": "Default"}}, "user": object{"id": "u-keeper", "name": "keeper", "domain": object{"id": "default", "name": "Default"}},
		"roles": []object{{"id": "member", "name": "member"}}, "catalog": catalog,
	}})
}

// guarded asks for a token that is taken and a version that there is, and holds the lock while the
// request is answered.
func (c *Cloud) guarded(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		c.mu.Lock()
		defer c.mu.Unlock()
		if ends, ok := c.tokens[r.Header.Get("X-Auth-Token")]; !ok || time.Now().After(ends) {
			faultOf(w, http.StatusUnauthorized, "error", "The request you have made requires authentication.")
			return
		}
		if version, ok := strings.CutPrefix(r.Header.Get("OpenStack-API-Version"), "compute 2."); ok {
			if n, err := strconv.Atoi(version); err != nil || n > newestMicroversion {
				faultOf(w, http.StatusNotAcceptable, "computeFault", fmt.Sprintf("Version 2.%s is not supported by the API. Minimum is 2.1 and maximum is 2.%d.", version, newestMicroversion))
				return
			}
			w.Header().Set("OpenStack-API-Version", "compute 2."+version)
		}
		do(w, r)
	}
}

// list answers a page of a list, with the address of the next where there is one.
func (c *Cloud) list(w http.ResponseWriter, r *http.Request, name string, all []object) {
	from, n := 0, len(all)
	if marker := r.URL.Query().Get("marker"); marker != "" {
		at := slices.IndexFunc(all, func(o object) bool { return o["id"] == marker })
		if at < 0 {
			faultOf(w, http.StatusBadRequest, "badRequest", "marker ["+marker+"] not found")
			return
		}
		from = at + 1
	}
	if limit, err := strconv.Atoi(r.URL.Query().Get("limit")); err == nil && limit > 0 {
		n = limit
	}
	if c.Page > 0 {
		n = min(n, c.Page)
	}
	to := min(from+n, len(all))
	body := object{name: append([]object{}, all[from:to]...)}
	if to < len(all) && to > from {
		query := r.URL.Query()
		query.Set("marker", all[to-1]["id"].(string))
		body[name+"_links"] = []object{{"rel": "next", "href": c.URL() + r.URL.Path + "?" + query.Encode()}}
	}
	answer(w, http.StatusOK, body)
}

func (c *Cloud) onServer(do func(w http.ResponseWriter, r *http.Request, i *instance)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		i := c.find(r.PathValue("id"))
		if i == nil {
			faultOf(w, http.StatusNotFound, "itemNotFound", "Instance "+r.PathValue("id")+" could not be found.")
			return
		}
		do(w, r, i)
	}
}

// serverOf is an instance as the Compute API tells it; whole is what is told of one alone.
func (c *Cloud) serverOf(i *instance, whole bool) object {
	addresses := object{}
	if i.inside.IsValid() {
		name := ""
		for _, n := range cloudNetworks {
			if n.id == i.network {
				name = n.name
			}
		}
		list := []object{{"addr": i.inside.String(), "version": 4, "OS-EXT-IPS:type": "fixed"}}
		if i.outside.IsValid() {
			list = append(list, object{"addr": i.outside.String(), "version": 4, "OS-EXT-IPS:type": "floating"})
		}
		addresses[name] = list
		if i.more.IsValid() {
			addresses["reef"] = []object{{"addr": i.more.String(), "version": 4, "OS-EXT-IPS:type": "fixed"}}
		}
	}
	groups := []object{}
	for _, g := range i.groups {
		groups = append(groups, object{"name": g})
	}
	var task any
	if i.task != "" {
		task = i.task
	}
	s := object{
		"id": i.id, "name": i.name, "status": i.status, "OS-EXT-STS:task_state": task, "metadata": i.meta, "image": object{"id": i.image}, "key_name": i.key,
		"flavor":  object{"original_name": i.size, "vcpus": cloudSizes[i.size][0], "ram": cloudSizes[i.size][1], "disk": cloudSizes[i.size][2]},
		"created": i.launched.Add(c.Skew).UTC().Format(time.RFC3339), "updated": i.updated.Add(c.Skew).UTC().Format(time.RFC3339), "OS-SRV-USG:launched_at": i.launched.Add(c.Skew).UTC().Format("2006-01-02T15:04:05.000000"),
		"addresses": addresses, "security_groups": groups, "tenant_id": "p-bay", "links": []object{},
	}
	if whole && i.fault != "" {
		s["fault"] = object{"code": 500, "message": i.fault, "created": i.updated.UTC().Format(time.RFC3339)}
	}
	return s
}

func (c *Cloud) action(w http.ResponseWriter, r *http.Request, i *instance) {
	asked := object{}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&asked); err != nil || len(asked) != 1 {
		faultOf(w, http.StatusBadRequest, "badRequest", "one action is wanted")
		return
	}
	for action := range asked {
		if action == "os-getConsoleOutput" {
			if i.status == "ERROR" {
				faultOf(w, http.StatusConflict, "conflictingRequest", "Instance "+i.id+" is not ready")
				return
			}
			answer(w, http.StatusOK, object{"output": i.console()})
			return
		}
		err := c.act(i, action)
		var in conflict
		switch {
		case errors.As(err, &in):
			faultOf(w, http.StatusConflict, "conflictingRequest", err.Error())
		case err != nil:
			faultOf(w, http.StatusBadRequest, "badRequest", err.Error())
		default:
			w.WriteHeader(http.StatusAccepted)
		}
	}
}

// keyPairs are those of the workspace's keys, and one whose file nobody has.
func (c *Cloud) keyPairs(w http.ResponseWriter, r *http.Request) {
	var all []object
	for _, name := range []string{"shore", "gauge", "tide", "mast", "survey", "sounding"} {
		public, err := os.ReadFile(filepath.Join(c.bay.Dir, "lab", name+".pem.pub"))
		pair := object{"name": name, "type": "ssh", "fingerprint": "74:c8:07:9d:35:a8:31:1f:b6:22:ed:6c:63:0a:28:8d"}
		if err == nil {
			pair["public_key"] = string(public)
		}
		all = append(all, object{"keypair": pair, "id": name})
	}
	for _, name := range slices.Sorted(maps.Keys(c.pairs)) {
		all = append(all, object{"keypair": object{"name": name, "type": "ssh", "public_key": c.pairs[name]}, "id": name})
	}
	c.list(w, r, "keypairs", all)
}

func (c *Cloud) networks(w http.ResponseWriter, r *http.Request) {
	var all []object
	for _, n := range cloudNetworks {
		all = append(all, object{"id": n.id, "name": n.name, "status": "ACTIVE", "admin_state_up": true, "router:external": n.external, "subnets": []string{"s-" + n.name}})
	}
	c.list(w, r, "networks", all)
}

func (c *Cloud) subnets(w http.ResponseWriter, r *http.Request) {
	var all []object
	for _, n := range cloudNetworks {
		all = append(all, object{"id": "s-" + n.name, "name": n.name, "network_id": n.id, "cidr": n.cidr, "ip_version": 4, "enable_dhcp": true})
	}
	c.list(w, r, "subnets", all)
}

// ports are those of the router: it joins the shore and the reef.
func (c *Cloud) ports(w http.ResponseWriter, r *http.Request) {
	var all []object
	if r.URL.Query().Get("device_owner") == "network:router_interface" {
		for _, n := range []string{"n-shore", "n-reef"} {
			all = append(all, object{"id": "p-" + n, "network_id": n, "device_id": "r-harbour", "device_owner": "network:router_interface"})
		}
	}
	c.list(w, r, "ports", all)
}

func (c *Cloud) groups(w http.ResponseWriter, r *http.Request) {
	var all []object
	wanted := r.URL.Query().Get("name")
	for _, name := range slices.Sorted(maps.Keys(c.rules)) {
		if wanted == "" || wanted == name {
			all = append(all, c.groupOf(name))
		}
	}
	c.list(w, r, "security_groups", all)
}

// groupOf is a group of rules as the Networking API tells it.
func (c *Cloud) groupOf(name string) object {
	list := []object{}
	for n, rule := range c.rules[name] {
		list = append(list, ruleOf(name, n, rule))
	}
	return object{"id": "g-" + name, "name": name, "description": "", "security_group_rules": list}
}

// ruleID is the id of the nth rule of a group.
func ruleID(group string, n int, rule cloudRule) string {
	return cmp.Or(rule.id, fmt.Sprintf("g-%s-%d", group, n))
}

func ruleOf(group string, n int, rule cloudRule) object {
	o := object{"id": ruleID(group, n, rule), "description": rule.note, "security_group_id": "g-" + group, "direction": "egress", "ethertype": "IPv4"}
	if rule.in {
		o["direction"] = "ingress"
	}
	if rule.protocol != "" {
		o["protocol"] = rule.protocol
	}
	if rule.last > 0 {
		o["port_range_min"], o["port_range_max"] = rule.first, rule.last
	}
	if strings.Contains(rule.from, "/") {
		o["remote_ip_prefix"] = rule.from
	} else {
		o["remote_group_id"] = "g-" + rule.from
	}
	return o
}
