// Command farside stands on the far side of a real server and speaks the agent
// protocol to whatever is lent there.
package main

import (
	"fmt"
	"net"
	"os"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

func main() {
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
	for _, k := range keys {
		fmt.Println("listed", k.Comment, ssh.FingerprintSHA256(k))
		data := ssh.Marshal(struct {
			Session               []byte
			Kind                  byte
			User, Service, Method string
			Has                   bool
			Algorithm             string
			Key                   []byte
		}{[]byte("a session"), 50, "keeper", "ssh-connection", "publickey", true, k.Format, k.Blob})
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
