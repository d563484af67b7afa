// Command farside stands on the far side of a real server and speaks the agent
// protocol to whatever is lent there.
package main

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

func main() {
	if len(os.Args) == 3 && os.Args[1] == "web" {
		web(os.Args[2])
		return
	}
	conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		fmt.Println("no agent:", err)
		os.Exit(1)
	}
	client := agent.NewClient(conn)
	keys, err := client.List()
	if err != nil {
		fmt.Println("listing:", err)
		os.Exit(1)
	}
	if len(os.Args) == 3 && os.Args[1] == "time" {
		n, _ := strconv.Atoi(os.Args[2])
		measure(client, keys[0], n)
		return
	}
	for _, k := range keys {
		fmt.Println("listed", k.Comment, ssh.FingerprintSHA256(k))
		data := login(k)
		sig, err := client.Sign(k, data)
		if err == nil {
			err = k.Verify(data, sig)
		}
		fmt.Println("signed a login:", err)
		_, err = client.Sign(k, []byte("a contract"))
		fmt.Println("signed a contract:", err)
	}
	fmt.Println("removing:", client.RemoveAll())
}

// web serves a page that says who asks for it.
func web(address string) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	fmt.Println("serving")
	http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		fmt.Fprintf(w, "tide tables for %s\n", host)
	}))
}

// login is what a login asks to be signed.
func login(k *agent.Key) []byte {
	return ssh.Marshal(struct {
		Session               []byte
		Kind                  byte
		User, Service, Method string
		Has                   bool
		Algorithm             string
		Key                   []byte
	}{[]byte("a session"), 50, "keeper", "ssh-connection", "publickey", true, k.Format, k.Blob})
}

// measure prints how long one of n signatures takes, in nanoseconds.
func measure(client agent.ExtendedAgent, k *agent.Key, n int) {
	began := time.Now()
	for range n {
		if _, err := client.Sign(k, login(k)); err != nil {
			fmt.Println("signing:", err)
			os.Exit(1)
		}
	}
	fmt.Println(time.Since(began).Nanoseconds() / int64(n))
}
