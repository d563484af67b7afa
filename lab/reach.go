package lab

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"strconv"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// reach logs in to an inner host with whatever key is lent to the shell, and runs
// a command there.
func reach(_ context.Context, s *shell, args []string) int {
	if len(args) < 1 {
		fmt.Fprintln(s.errs, commands["reach"].use)
		return 2
	}
	h := s.host.bay.Host(args[0])
	if h == nil {
		fmt.Fprintf(s.errs, "reach: there is no %s in the bay\n", args[0])
		return 1
	}
	login, command := "keeper", "whoami; hostname"
	if len(args) > 1 {
		command = args[1]
	}
	client, done, err := s.lentAgent()
	if err != nil {
		fmt.Fprintf(s.errs, "reach: no agent is lent to this shell: %v\n", err)
		return 1
	}
	defer done()
	conn, err := s.host.bay.dial(s.host, net.JoinHostPort(h.at(), "22"))
	if err != nil {
		fmt.Fprintf(s.errs, "reach: %v\n", err)
		return 1
	}
	defer conn.Close()
	c, channels, requests, err := ssh.NewClientConn(conn, h.at(), &ssh.ClientConfig{
		User: login, Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { return boundSigners(client, h) })}, HostKeyCallback: ssh.FixedHostKey(h.Identity()),
	})
	if err != nil {
		fmt.Fprintf(s.errs, "reach: %s does not let %s in: %v\n", h.Name, login, err)
		return 1
	}
	inner := ssh.NewClient(c, channels, requests)
	defer inner.Close()
	session, err := inner.NewSession()
	if err != nil {
		fmt.Fprintln(s.errs, err)
		return 1
	}
	defer session.Close()
	out, err := session.CombinedOutput(command)
	s.out.Write(out)
	if err != nil {
		return 1
	}
	return 0
}

// boundSigners are an agent's keys. Before each use they bind the line to the
// session with the host, as the usual clients do.
func boundSigners(client agent.ExtendedAgent, h *Host) ([]ssh.Signer, error) {
	signers, err := client.Signers()
	for i, s := range signers {
		signers[i] = boundSigner{s.(ssh.AlgorithmSigner), client, h}
	}
	return signers, err
}

type boundSigner struct {
	ssh.AlgorithmSigner
	client agent.ExtendedAgent
	host   *Host
}

func (s boundSigner) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, "")
}

func (s boundSigner) SignWithAlgorithm(random io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	var asked struct {
		Session []byte
		Rest    []byte `ssh:"rest"`
	}
	if err := ssh.Unmarshal(data, &asked); err != nil {
		return nil, err
	}
	s.host.mu.Lock()
	key := s.host.signer
	s.host.mu.Unlock()
	proof, err := key.Sign(rand.Reader, asked.Session)
	if err != nil {
		return nil, err
	}
	s.client.Extension("session-bind@openssh.com", ssh.Marshal(struct { // an agent may not know it
		Host, Session, Proof []byte
		Forwarded            bool
	}{key.PublicKey().Marshal(), asked.Session, ssh.Marshal(proof), false}))
	return s.AlgorithmSigner.SignWithAlgorithm(random, data, algorithm)
}

// lentAgent opens a channel to the agent that is lent to the shell.
func (s *shell) lentAgent() (client agent.ExtendedAgent, done func(), err error) {
	if !s.agent {
		return nil, nil, io.EOF
	}
	stream, requests, err := s.conn.OpenChannel("auth-agent@openssh.com", nil)
	if err != nil {
		return nil, nil, err
	}
	go ssh.DiscardRequests(requests)
	return agent.NewClient(stream), func() { stream.Close() }, nil
}

// pester asks a lent agent for a signature again and again, as a misbehaving
// program would.
func pester(_ context.Context, s *shell, args []string) int {
	times := 500
	if len(args) > 0 {
		times, _ = strconv.Atoi(args[0])
	}
	client, done, err := s.lentAgent()
	if err != nil {
		fmt.Fprintf(s.errs, "pester: no agent is lent to this shell: %v\n", err)
		return 1
	}
	defer done()
	keys, err := client.List()
	if err != nil || len(keys) == 0 {
		fmt.Fprintln(s.errs, "pester: it shows no key")
		return 1
	}
	made := 0
	for range times {
		data := ssh.Marshal(struct {
			Session               []byte
			Kind                  byte
			User, Service, Method string
			Has                   bool
			Algorithm             string
			Key                   []byte
		}{[]byte("made up"), 50, "root", "ssh-connection", "publickey", true, keys[0].Format, keys[0].Blob})
		if _, err := client.Sign(keys[0], data); err == nil {
			made++
		}
	}
	fmt.Fprintf(s.out, "%d of %d signatures\n", made, times)
	return 0
}
