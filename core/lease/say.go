package lease

import (
	"time"
)

// Want asks for a lease.
type Want struct {
	ID       string `json:"id"` // made up for this asking, and for no other
	Machine  string `json:"machine"`
	Instance string `json:"instance,omitempty"`
	Login    string `json:"login"`
	Key      string `json:"key"` // the public key, in its wire form (RFC 4253 section 6.6), base64
	Reason   string `json:"reason,omitempty"`
}

// State is how it stands with an asking.
type State struct {
	Waits       []string  `json:"waits,omitempty"` // for one of these persons
	Certificate string    `json:"certificate,omitempty"`
	Rule        string    `json:"rule,omitempty"`
	Ends        time.Time `json:"ends,omitzero"`
	Seconds     int       `json:"seconds,omitempty"` // that it lasts
	Serial      uint64    `json:"serial,omitempty"`
	May         string    `json:"may,omitempty"`
	EndsShells  bool      `json:"ends_shells,omitempty"`
	AgreedBy    string    `json:"agreed_by,omitempty"`
	Refused     string    `json:"refused,omitempty"`
	Could       string    `json:"could,omitempty"` // what would allow it
	WantsReason bool      `json:"wants_reason,omitempty"`

	Hosts        string   `json:"hosts,omitempty"`         // the key that signs machines' keys, as a line of a list of keys
	HostsRevoked []uint64 `json:"hosts_revoked,omitempty"` // serials of its certificates that hold no more
}

// Right is what one may at a machine.
type Right struct {
	Machine  string `json:"machine"`
	Instance string `json:"instance,omitempty"`
	Login    string `json:"login"`
	Now      bool   `json:"now"`  // at this moment, from here
	Says     string `json:"says"` // under which conditions
	May      string `json:"may,omitempty"`
	Rule     string `json:"rule,omitempty"`
	Agreed   bool   `json:"agreed,omitempty"` // a second person has to agree
	Reason   bool   `json:"reason,omitempty"`
	Denied   bool   `json:"denied,omitempty"`
}

// Lease is one that has not ended.
type Lease struct {
	Serial   uint64    `json:"serial"`
	Machine  string    `json:"machine"`
	Login    string    `json:"login"`
	Rule     string    `json:"rule"`
	Granted  time.Time `json:"granted"`
	Ends     time.Time `json:"ends"`
	AgreedBy string    `json:"agreed_by,omitempty"`
	Reason   string    `json:"reason,omitempty"`
}

// Waiting is an asking that waits for a second person.
type Waiting struct {
	ID      string    `json:"id"`
	Person  string    `json:"person"`
	Machine string    `json:"machine"`
	Login   string    `json:"login"`
	Reason  string    `json:"reason,omitempty"`
	Rule    string    `json:"rule"`
	From    string    `json:"from,omitempty"`
	Asked   time.Time `json:"asked"`
	Expires time.Time `json:"expires"`
	State   string    `json:"state"`          // "waiting" or "agreed"
	By      string    `json:"by,omitempty"`   // who agreed
	Mine    bool      `json:"mine,omitempty"` // one has asked oneself
}

// About is what an issuer tells of itself to whoever it knows.
type About struct {
	Name    string   `json:"name"`
	Person  string   `json:"person"`  // who one is to it
	Signers []string `json:"signers"` // the keys that sign leases, as lines of a list of keys; the first one signs now
	Hosts   string   `json:"hosts"`   // the key that signs machines' keys, the same way, "" for none
	Revoked []byte   `json:"revoked"` // the revocation list
	Stops   int64    `json:"stops"`   // the number of the last stop that is in it
	Enrols  bool     `json:"enrols"`  // one may enrol machines

	HostsRevoked []uint64 `json:"hosts_revoked,omitempty"` // serials of machines' certificates that hold no more, though they have not ended
}

// Machine is one that trusts an issuer.
type Machine struct {
	Name     string   `json:"name"`
	Instance string   `json:"instance,omitempty"`
	Site     string   `json:"site,omitempty"`
	Tags     []string `json:"tags,omitempty"`
	Networks []string `json:"networks,omitempty"`
	Plain    bool     `json:"plain,omitempty"`    // it takes logins by their names alone
	HostKey  string   `json:"host_key,omitempty"` // as a line of a list of keys, to be signed
	Names    []string `json:"names,omitempty"`    // hosts that its certificate is for
	Signers  []string `json:"signers,omitempty"`  // fingerprints of the keys that it trusts
	Stops    int64    `json:"stops,omitempty"`
}

// Enrolled is the answer to that.
type Enrolled struct {
	HostCertificate string `json:"host_certificate,omitempty"` // as a line of a list of keys
	Known           bool   `json:"known,omitempty"`            // it was known before
}

// Used says that a machine's log tells of a lease.
type Used struct {
	Machine string    `json:"machine"`
	Serial  uint64    `json:"serial"`
	At      time.Time `json:"at,omitzero"`
	Says    string    `json:"says,omitempty"`
}
