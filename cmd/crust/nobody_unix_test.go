//go:build !windows

package main

import (
	"os"
	"os/exec"
	"syscall"
)

// asNobody has root run a command as a user who owns nothing.
func asNobody(c *exec.Cmd) {
	if os.Geteuid() == 0 {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
}
