package secret

import (
	"os"
	"strings"
	"sync"
)

// TokenVariable is the environment variable of the token with which a machine joins a gateway.
const TokenVariable = "MEATUS_TOKEN"

var (
	hiding sync.Mutex
	hidden = map[string]bool{TokenVariable: true}
)

// Hide removes an environment variable that holds a secret from the environment of programs started from now on.
func Hide(variable string) {
	hiding.Lock()
	defer hiding.Unlock()
	hidden[variable] = true
}

// Environ returns the environment for a started program, without variables that hold secrets of Meatus.
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

// Plain is [Environ] for a program that needs no access to a cloud: without cloud credentials too, which OpenStack's
// programs take from variables that begin with "OS_".
func Plain() []string {
	var all []string
	for _, each := range Environ() {
		if !strings.HasPrefix(each, "OS_") {
			all = append(all, each)
		}
	}
	return all
}
