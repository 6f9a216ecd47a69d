// Package access holds who may enter a server that others can reach: each with a token of their own, kept in a file of the data folder.
package access

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"
)

// User is someone who may enter.
type User struct {
	Name  string `json:"name"`
	Token string `json:"token"`
	Guest bool   `json:"guest,omitempty"` // may look, and change nothing
	Root  string `json:"root,omitempty"`  // folder below which their deliveries lie; empty for one of their name below the server's
}

// Cookie is what a browser keeps of a user. It does not tell the token, and holds until that is changed.
func (u *User) Cookie() string {
	sum := sha256.Sum256([]byte("crust cookie " + u.Token))
	return hex.EncodeToString(sum[:])
}

// Owner is the name of the user that a data folder begins with.
const Owner = "owner"

// fileName is that of the users in the data folder; only its owner may read it.
const fileName = "users.json"

// MaxUsers limits the users of a data folder.
const MaxUsers = 200

var names = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,31}$`)

// Users are those of a data folder. Changes by another process are seen within a second.
type Users struct {
	file  string
	mu    sync.Mutex
	list  []User
	stamp time.Time // of the file that was read
	size  int64
	seen  time.Time // when the file was looked at last
}

// Open reads the users of a data folder; there may be none yet.
func Open(dir string) (*Users, error) {
	u := &Users{file: filepath.Join(dir, fileName)}
	u.mu.Lock()
	defer u.mu.Unlock()
	return u, u.read()
}

// read takes the file in when it has changed. mu is held.
func (u *Users) read() error {
	u.seen = time.Now()
	info, err := os.Stat(u.file)
	if errors.Is(err, fs.ErrNotExist) {
		u.list, u.stamp, u.size = nil, time.Time{}, 0
		return nil
	}
	if err != nil {
		return err
	}
	if info.ModTime().Equal(u.stamp) && info.Size() == u.size {
		return nil
	}
	text, err := os.ReadFile(u.file)
	if err != nil {
		return err
	}
	var list []User
	if json.Unmarshal(text, &list) != nil || slices.ContainsFunc(list, func(v User) bool { return v.Token == "" || !names.MatchString(v.Name) }) {
		return fmt.Errorf("%s cannot be understood; mend it, or delete it and add the users anew with crust users add", u.file)
	}
	u.list, u.stamp, u.size = list, info.ModTime(), info.Size()
	return nil
}

// write puts the list in place of the file. mu is held.
func (u *Users) write(list []User) error {
	text, err := json.MarshalIndent(list, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(u.file), ".users-*") // readable by its owner alone
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(append(text, '\n'))
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), u.file)
	}
	if err != nil {
		return err
	}
	u.stamp = time.Time{}
	return u.read()
}

// List lists the users by the order in which they came.
func (u *Users) List() []User {
	u.mu.Lock()
	defer u.mu.Unlock()
	if time.Since(u.seen) > time.Second {
		_ = u.read() // a file that cannot be read leaves those known
	}
	return slices.Clone(u.list)
}

// find compares with all users in a time that tells nothing of how much was right.
func (u *Users) find(said string, of func(v *User) string) (out User, ok bool) {
	list := u.List()
	for i := range list {
		if subtle.ConstantTimeCompare([]byte(of(&list[i])), []byte(said)) == 1 {
			out, ok = list[i], true
		}
	}
	return out, ok
}

// ByToken finds the user with a token.
func (u *Users) ByToken(token string) (User, bool) {
	return u.find(token, func(v *User) string { return v.Token })
}

// ByCookie finds the user whose cookie it is.
func (u *Users) ByCookie(cookie string) (User, bool) { return u.find(cookie, (*User).Cookie) }

// Add makes a user with a new token.
func (u *Users) Add(v User) (User, error) {
	if !names.MatchString(v.Name) {
		return v, fmt.Errorf("“%.40s” cannot be a user's name; take up to 32 small letters, digits and hyphens", v.Name)
	}
	if v.Root != "" && !filepath.IsAbs(v.Root) {
		return v, fmt.Errorf("--root: give the whole path of the folder, from its beginning")
	}
	v.Token = newToken()
	return v, u.change(func(list []User) ([]User, error) {
		if slices.ContainsFunc(list, func(o User) bool { return o.Name == v.Name }) {
			return nil, fmt.Errorf("there is a user “%s” already; change the token with crust users renew", v.Name)
		}
		if len(list) == MaxUsers {
			return nil, fmt.Errorf("there are %d users, which is the limit; remove one", MaxUsers)
		}
		return append(list, v), nil
	})
}

// Renew gives a user a new token; browsers that entered with the old one have to enter again.
func (u *Users) Renew(name string) (v User, err error) {
	return v, u.change(func(list []User) ([]User, error) {
		i := slices.IndexFunc(list, func(o User) bool { return o.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no user “%.40s”; crust users lists them", name)
		}
		list[i].Token = newToken()
		v = list[i]
		return list, nil
	})
}

// Remove takes a user away.
func (u *Users) Remove(name string) error {
	return u.change(func(list []User) ([]User, error) {
		i := slices.IndexFunc(list, func(o User) bool { return o.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no user “%.40s”; crust users lists them", name)
		}
		return slices.Delete(list, i, i+1), nil
	})
}

func (u *Users) change(how func(list []User) ([]User, error)) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if err := u.read(); err != nil {
		return err
	}
	list, err := how(slices.Clone(u.list))
	if err != nil {
		return err
	}
	return u.write(list)
}

// newToken is 160 random bits.
func newToken() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b) // it never fails
	return base64.RawURLEncoding.EncodeToString(b)
}
