package store

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"crust/internal/core/deliver"
)

// lockName is a file of the data folder that its owner holds locked. The system lets go of the lock when the process ends, however it
// does; the file stays and says nothing then.
const lockName = "crust.lock"

// lock is the hold of a data folder.
type lock struct {
	file *os.File
	own  Owner
}

// lockFolder takes hold of a data folder.
func lockFolder(dir string) (*lock, error) {
	name := filepath.Join(dir, lockName)
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be worked in: %w", dir, deliver.Told(err))
	}
	held, err := tryLock(f)
	if err != nil || !held {
		used := &InUse{Dir: dir}
		text, _ := io.ReadAll(io.LimitReader(f, 1<<12))
		f.Close()
		if err != nil {
			return nil, err
		}
		_ = json.Unmarshal(text, &used.By) // it may be half written
		return nil, used
	}
	l := &lock{file: f, own: Owner{PID: os.Getpid(), Since: time.Now()}}
	l.own.Host, _ = os.Hostname()
	l.note("")
	return l, nil
}

// note writes down who holds the folder; on a full disk that stays unsaid.
func (l *lock) note(address string) {
	l.own.At = address
	text, err := json.Marshal(l.own)
	if err != nil || l.file.Truncate(0) != nil {
		return
	}
	_, _ = l.file.WriteAt(text, 0)
}

func (l *lock) release() {
	_ = l.file.Truncate(0)
	_ = l.file.Close()
}
