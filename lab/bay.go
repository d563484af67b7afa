package lab

// bayFiles are the files some hosts have besides those of every machine.
var bayFiles = map[string]map[string]string{
	"quay": {
		"/home/warden/rounds":     "06:00 lamp\n12:00 gauges\n18:00 lamp\n",
		"/etc/bay/landings.table": "quay\t203.0.113.10\nreef\t10.61.4.0/24\n",
	},
	"tide-db": {
		"/srv/tide/levels.csv": "hour,level\n0,1.90\n1,2.56\n2,3.05\n",
		"/srv/tide/README":     "levels.csv is read by the dashboard every minute\n",
	},
	"gauge-1":    {"/srv/gauge/offset": "-0.03\n"},
	"gauge-2":    {"/srv/gauge/offset": "+0.01\n"},
	"survey-web": {"/srv/www/index.html": "<h1>Lantern Bay</h1>\n<p>Tide tables.</p>\n"},
	"archive":    {"/srv/archive/1998/": "", "/srv/archive/1998/storm.txt": "12 Jan: the highest water on record, 4.31 m\n"},
}

// baySessions is the demo's sessions file; QUAY is where the bastion listens.
const baySessions = `# Lantern Bay, a tide observatory. Everything here is made up and runs inside
# this program: no packet leaves your machine.
#
# Some things are wrong on purpose:
#   tide-db     its key can be read by everybody
#   gauge-2     was replaced: it shows another host key than the vouched one
#   gauge-3     is not listening
#   gauge-4     the login is not the right one
#   survey-web  its key has a passphrase: low tide
#   buoy        its key file is missing: it lies in the download folder
#   tables      its local port is in use
#   sluice      its rules let quay not in, but mast and archive
#   sill        its keeper's home can be written by everybody, so the server
#               passes the list of keys over; the password is: ebb
#   quay        a private key, an agent's socket and an unknown line were left
#               behind there
#   hulk       the token that it was to join the lightship with was used up
#   weir-clerk  a rule of the purser lets the warden be no clerk
# and some are only uncommon: the lamp wants a code after the key (its banner
# gives it away), the mast a certificate.

[defaults]
keepalive = "30s"

[estate.bay]                     # the bay's cloud: Y shows its instances
kind  = "openstack"
cloud = "bay"                    # as clouds.yaml has it, which stands beside this file
every = "10s"

[site.shore]
user = "warden"

[site.reef]                      # reached only through quay
via  = ["quay"]
user = "keeper"

[[like]]
name = "gauge-*"
key  = "keys/gauge.pem"

[session.quay]
site = "shore"
host = "203.0.113.10"
dial = "QUAY"         # the lab, on loopback
key  = "keys/shore.pem"

[session.tide-db]
site = "reef"
host = "10.61.4.20"
key  = "keys/tide.pem"

[session.gauge-1]
site = "reef"
host = "10.61.4.31"

[session.gauge-2]
site = "reef"
host = "10.61.4.32"

[session.gauge-3]
site = "reef"
host = "10.61.4.33"

[session.gauge-4]
site = "reef"
host = "10.61.4.34"
user = "warden"                  # should be keeper

[session.survey-web]
site = "reef"
host = "survey-web.internal"     # a name that only quay can resolve
key  = "keys/survey.pem"

[session.archive]
site = "reef"
host = "10.61.4.50"
key  = "keys/gauge.pem"

[session.lamp]
site = "reef"
host = "10.61.4.60"
key  = "keys/gauge.pem"

[session.mast]
site = "reef"
host = "10.61.4.61"
key  = "keys/mast.pem"
folder = "/var/log"
arrive = "cat tide.log"

[session.buoy]
site = "reef"
host = "10.61.4.62"
key  = "keys/buoy.pem"           # not there yet

[session.sluice]
site = "reef"
host = "10.61.4.64"
key  = "keys/gauge.pem"

[session.tables]                 # the tide tables, brought here
site = "reef"
host = "10.61.4.50"
key  = "keys/gauge.pem"
tunnels = [{ bring = "DOOR", reach = "survey-web.internal:80" }]

[site.point]
user = "warden"

[session.spit]                   # the bastion again, with a key lent to it
site  = "point"
host  = "203.0.113.10"
dial  = "QUAY"
key   = "keys/shore.pem"
agent = "ask"
lends = ["keys/gauge.pem"]

[gateway.lightship]              # a relay: machines without an open port dial out to it
url      = "LIGHTSHIP"
host_key = "SHIPKEY"
key      = "keys/shore.pem"

[session.sounder]                # nobody can knock at it; it has joined the lightship
via   = ["lightship"]
host  = "sounder"
user  = "keeper"
key   = "keys/gauge.pem"

[session.skerry]                 # joins a little after the start
via   = ["lightship"]
host  = "skerry"
user  = "keeper"
key   = "keys/gauge.pem"

[session.hulk]
via   = ["lightship"]
host  = "hulk"
user  = "keeper"
key   = "keys/gauge.pem"

[issuer.purser]                  # gives logins that last for a minute, by a policy
url      = "PURSER"
host_key = "TOLLKEY"
key      = "keys/shore.pem"

[issuer.gangway]                 # the same, for whoever shows who it is by a code
url           = "PURSER"
host_key      = "TOLLKEY"
device        = "GANGWAY"
device_client = "meatus"

[session.weir]                   # it takes leases, and has no list of keys
site  = "reef"
host  = "10.61.4.90"
lease = "purser"

[session.weir-root]              # somebody else has to agree
site  = "reef"
host  = "10.61.4.90"
user  = "root"
lease = "purser/weir"

[session.weir-clerk]             # a rule says no
site  = "reef"
host  = "10.61.4.90"
user  = "clerk"
lease = "purser/weir"

[session.fen]                    # trusts no issuer yet
site  = "reef"
host  = "10.61.4.91"
user  = "root"
key   = "keys/gauge.pem"

[session.sill]
via   = ["quay"]
user  = "keeper"
host  = "10.61.4.63"
key   = "keys/gauge.pem"
`
