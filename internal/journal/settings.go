package journal

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"sync"

	"orenda/internal/exchange"
)

// Settings is a list of settings, which most calls of an endpoint share: it is three fifths of a
// record's head, and is kept once for all.
type Settings struct {
	Hash string             // of JSON: half of SHA-256, hex
	JSON []byte             // as it is kept
	List []exchange.Setting // shared by those who read it: nobody changes it
}

// Lists knows the lists of settings that were used last. It may be used from several goroutines.
type Lists struct {
	mu     sync.Mutex
	recent []*Settings // the newest last
}

// maxRecent is how many lists are known. A call is held against each of them.
const maxRecent = 16

// Of is the list that says the same.
func (l *Lists) Of(all []exchange.Setting) (*Settings, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i, s := range slices.Backward(l.recent) {
		if slices.Equal(s.List, all) {
			return l.recent[i], nil
		}
	}
	text, err := json.Marshal(all)
	if err != nil {
		return nil, err
	}
	s := &Settings{settingsHash(text), text, slices.Clone(all)}
	l.know(s)
	return s, nil
}

// Find is the list of a hash; read reads its JSON where it is not known.
func (l *Lists) Find(hash string, read func() ([]byte, error)) ([]exchange.Setting, error) {
	if s := l.known(hash); s != nil {
		return s.List, nil
	}
	text, err := read() // it may wait for somebody who looks for a list
	if err != nil {
		return nil, err
	}
	s := &Settings{Hash: hash, JSON: text}
	if err := json.Unmarshal(text, &s.List); err != nil {
		return nil, err
	}
	s.List = slices.Clip(s.List) // who appends to it has a copy
	l.mu.Lock()
	defer l.mu.Unlock()
	l.know(s)
	return s.List, nil
}

func (l *Lists) known(hash string) *Settings {
	l.mu.Lock()
	defer l.mu.Unlock()
	if i := slices.IndexFunc(l.recent, func(s *Settings) bool { return s.Hash == hash }); i >= 0 {
		return l.recent[i]
	}
	return nil
}

func (l *Lists) know(s *Settings) {
	if len(l.recent) == maxRecent {
		l.recent = slices.Delete(l.recent, 0, 1)
	}
	l.recent = append(l.recent, s)
}

func settingsHash(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:len(sum)/2])
}
