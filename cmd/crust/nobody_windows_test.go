package main

import "os/exec"

func asNobody(*exec.Cmd) {}
