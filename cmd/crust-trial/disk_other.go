//go:build !linux

package main

import "errors"

var errNoDisk = errors.New("only Linux makes disks in memory here")

func mountSmall(string, int) error { return errNoDisk }

func unmount(string) {}

func remount(string, bool) error { return errNoDisk }
