package secret

import (
	"os"
	"strings"
	"sync"
)

// TokenVariable holds the token by which a machine joins a gateway.
const TokenVariable = "MEATUS_TOKEN"

var (
	hiding sync.Mutex
	hidden = map[string]bool{TokenVariable: true}
)

// Hide has programs that are started from now on not get a variable of the environment, which holds a secret.
func Hide(variable string) {
	hiding.Lock()
	defer hiding.Unlock()
	hidden[variable] = true
}

// Environ is the environment for a program that is started: without the variables that hold secrets of this one.
func Environ() []string {
	hiding.Lock()
	defer hiding.Unlock()
	var all []string
	for _, each := range os.Environ() {
		if name, _, _ := strings.Cut(each, "="); !hidden[name] {
			all = append(all, each)
		}
	}
	return all
}

// Plain is [Environ] for a program that has no business with a cloud: without its credentials, either, which
// OpenStack's own programs take from variables that begin with "OS_".
func Plain() []string {
	var all []string
	for _, each := range Environ() {
		if !strings.HasPrefix(each, "OS_") {
			all = append(all, each)
		}
	}
	return all
}
