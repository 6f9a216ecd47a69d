package access

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func open(t *testing.T, dir string) *Users {
	t.Helper()
	u, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return u
}

// A token opens for its user alone, and no longer once it was renewed or its user removed.
func TestATokenIsItsUsers(t *testing.T) {
	dir := t.TempDir()
	u := open(t, dir)
	ida, err := u.Add(User{Name: "ida"})
	if err != nil {
		t.Fatal(err)
	}
	tom, err := u.Add(User{Name: "tom", Guest: true, Root: filepath.Join(dir, "tom")})
	if err != nil {
		t.Fatal(err)
	}
	if ida.Token == tom.Token || len(ida.Token) < 27 {
		t.Errorf("tokens %q and %q; want 160 bits each, six to a letter", ida.Token, tom.Token)
	}
	again := open(t, dir) // as after a start
	for _, v := range []User{ida, tom} {
		if got, ok := again.ByToken(v.Token); !ok || got != v {
			t.Errorf("%+v found for the token of %+v", got, v)
		}
		if got, ok := again.ByCookie(v.Cookie()); !ok || got != v {
			t.Errorf("%+v found for the cookie of %+v", got, v)
		}
		if strings.Contains(v.Cookie(), v.Token) {
			t.Error("the cookie tells the token")
		}
	}
	for _, wrong := range []string{"", "x", ida.Token[1:], ida.Token + "x", ida.Cookie()} {
		if got, ok := again.ByToken(wrong); ok {
			t.Errorf("%q opens for %s", wrong, got.Name)
		}
	}
	now, err := u.Renew("ida")
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := u.ByToken(ida.Token); ok || now.Token == ida.Token {
		t.Error("the old token opens after it was renewed")
	}
	if _, ok := u.ByCookie(ida.Cookie()); ok {
		t.Error("the old cookie opens after the token was renewed")
	}
	if err := u.Remove("tom"); err != nil {
		t.Fatal(err)
	}
	if _, ok := u.ByToken(tom.Token); ok {
		t.Error("a removed user's token opens")
	}
}

// A running server sees within a second or so what another process changes.
func TestChangesOfAnotherProcessAreSeen(t *testing.T) {
	dir := t.TempDir()
	server, other := open(t, dir), open(t, dir)
	v, err := other.Add(User{Name: "ida"})
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(1100 * time.Millisecond)
	if _, ok := server.ByToken(v.Token); !ok {
		t.Error("the new user is not known after a second")
	}
}

func TestUsersAreRefusedInPlainWords(t *testing.T) {
	dir := t.TempDir()
	u := open(t, dir)
	if _, err := u.Add(User{Name: "ida"}); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Join(dir, fileName)); err != nil || info.Mode().Perm()&0o077 != 0 {
		t.Errorf("%v, %v; others may read the tokens", info.Mode(), err)
	}
	for _, c := range []struct {
		name, want string
		do         func() error
	}{
		{"twice", "already", func() error { _, err := u.Add(User{Name: "ida"}); return err }},
		{"a path", "cannot be a user's name", func() error { _, err := u.Add(User{Name: "../ida"}); return err }},
		{"none", "cannot be a user's name", func() error { _, err := u.Add(User{}); return err }},
		{"a part of a path", "--root", func() error { _, err := u.Add(User{Name: "tom", Root: "here"}); return err }},
		{"renew nobody", "no user", func() error { _, err := u.Renew("tom"); return err }},
		{"remove nobody", "no user", func() error { return u.Remove("tom") }},
	} {
		if err := c.do(); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want “%s”", c.name, err, c.want)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, fileName), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "cannot be understood") {
		t.Errorf("a broken file: %v", err)
	}
}
