package book

import (
	"fmt"
	"strings"
	"testing"
)

const gateways = `[gateway.bay]
url = ["wss://a.lantern.example", "wss://b.lantern.example:8443/bay"]
key = "keys/shore.pem"
host_key = "SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU"
keepalive = "5s"
proxy = "http://127.0.0.1:3128"

[session.reef]
host = "reef"
via = ["bay"]
`

func TestAGatewayIsRead(t *testing.T) {
	b := Parse("s", []byte(gateways))
	g := b.Gateway("bay")
	if len(b.Problems) > 0 || g == nil || g.Host.V != "a.lantern.example" || g.Port.V != 443 || len(g.URL.V) != 2 || g.Keys.V[0] != "keys/shore.pem" || g.Keepalive.V.Seconds() != 5 || g.Proxy.V == "" {
		t.Errorf("%v %+v", b.Problems, g)
	}
	if b.Session("bay") != nil || len(b.Sessions) != 1 {
		t.Error("a gateway is a session")
	}
	if host, port := HostOfURL(g.URL.V[1]); host != "b.lantern.example" || port != 8443 {
		t.Errorf("%s %d", host, port)
	}
	if say := b.WrongValue(InSession, "via", "bay"); say != "" {
		t.Error(say)
	}
}

func TestMistakesInAGateway(t *testing.T) {
	for text, want := range map[string]string{
		"[gateway.bay]\n":                                                             "1:10: gateway bay does not say where it is",
		"[gateway.bay]\nurl = \"https://x\"":                                          "2:7: url: a gateway is reached over TLS alone",
		"[gateway.bay]\nurl = \"wss://\"":                                             "is no gateway",
		"[gateway.bay]\nurl = \"wss://me:pw@x\"":                                      "is no gateway",
		"[gateway.bay]\nurl = \"wss://x:99999\"":                                      "99999 is no port",
		"[gateway.bay]\nurl = \"wss://x\"\nhost_key = \"MD5:1\"":                      "is no fingerprint",
		"[gateway.bay]\nurl = \"wss://x\"\nuser = \"me\"":                             "\"user\" has no meaning in gateway bay",
		"[gateway.bay]\nurl = \"wss://x\"\ntoken_file = \"a\"\ntoken_command = \"b\"": "names two tokens",
		"[gateway.a/b]\nurl = \"wss://x\"":                                            "not TOML",
		"[gateway]\nurl = \"wss://x\"":                                                "write [gateway.NAME]",
		"[session.bay]\nhost = \"x\"\n[gateway.bay]\nurl = \"wss://x\"":               "3:10: \"bay\" is given twice, first on line 1",
		gateways + "[session.far]\nhost = \"far\"\nvia = [\"reef\", \"bay\"]":         "far goes to the gateway bay from another hop",
		gateways + "[session.far]\nhost = \"far\"\nvia = [\"bya\"]":                   "did you mean \"bay\"?",
		"[session.x]\nhost = \"x\"\nca = \"y\"":                                       "give it in the table of a gateway",
	} {
		b := Parse("s", []byte(text))
		var all []string
		for _, p := range b.Problems {
			all = append(all, p.Error())
		}
		if !strings.Contains(strings.Join(all, "\n"), want) {
			t.Errorf("%q: %q", text, all)
		}
	}
}

// Leases are taken from likes, sites and defaults as any setting, and name an issuer that there is.
func TestSessionsWithLeases(t *testing.T) {
	b := Parse("s", []byte("[defaults]\nlease = \"bay\"\n[issuer.bay]\nurl = \"wss://x\"\nkey = \"k\"\n[session.a]\nhost = \"a\"\n[session.b]\nhost = \"b\"\nlease = \"bay/other\"\n[session.c]\nhost = \"c\"\nlease = \"off\"\n[gateway.bay]\nurl = \"wss://y\"\n"))
	if len(b.Problems) > 0 {
		t.Fatal(b.Problems)
	}
	for name, want := range map[string]string{"a": "bay a", "b": "bay other", "c": " "} {
		if issuer, machine := b.Session(name).Issuer(); issuer+" "+machine != want {
			t.Errorf("%s: %q %q", name, issuer, machine)
		}
	}
	if i := b.Issuer("bay"); i == nil || i.Host.V != "x" || i.Via.Set || b.Gateway("bay").Issuer {
		t.Errorf("%+v", i)
	}
	for text, say := range map[string]string{
		"[session.a]\nhost = \"a\"\nlease = \"bay\"":                                    "a has leases of \"bay\", and there is no such issuer; write a table [issuer.bay]",
		"[issuer.bay]\nurl = \"wss://x\"\n[session.a]\nhost = \"a\"\nlease = \"bey\"":   "did you mean \"bay\"",
		"[session.a]\nhost = \"a\"\nlease = \"b y\"":                                    "names no issuer",
		"[issuer.bay]\nkey = \"k\"":                                                     "issuer bay does not say where it is",
		"[issuer.bay]\nurl = \"wss://x\"\nhost = \"x\"":                                 "has no meaning in issuer bay",
		"[issuer.bay]\nurl = \"wss://x\"\n[issuer.bay]\nurl = \"wss://x\"":              "given twice",
		"[issuer.bay]\nurl = \"wss://x\"\ndevice = \"https://x\"":                       "names one of device and device_client",
		"[issuer.bay]\nurl = \"wss://x\"\ndevice = \"http://x\"\ndevice_client = \"m\"": "https alone",
		"[issuer.bay]\nurl = \"wss://x\"\n[session.a]\nhost = \"a\"\nvia = [\"bay\"]":   "there is no such session",
	} {
		b := Parse("s", []byte(text))
		if len(b.Problems) == 0 || !strings.Contains(fmt.Sprint(b.Problems), say) {
			t.Errorf("%q: %v", text, b.Problems)
		}
	}
}
