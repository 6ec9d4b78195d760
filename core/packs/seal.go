package packs

import (
	"bytes"
	"context"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"filippo.io/age"
	"github.com/zeebo/blake3"
	"golang.org/x/crypto/chacha20poly1305"
)

// Sealing keeps what a store holds from others' eyes; nil: the store is not sealed. All
// of it hangs on one random key, which lies in the store as an age file.
type Sealing struct {
	aead  cipher.AEAD
	idKey []byte
	proof string // tells this key from others; says nothing about it
}

// sealKeyName is the age file with the store's key. It can be written anew, for
// another passphrase, without touching the rest of the store.
const sealKeyName = "store-key.age"

const sealKeySize = 32

// bytes

func newSeal(key []byte) (*Sealing, error) {
	derive := func(what string) []byte {
		out := make([]byte, 32)
		blake3.DeriveKey("wetland store format 2: "+what, key, out)
		return out
	}
	aead, err := chacha20poly1305.NewX(derive("contents"))
	if err != nil {
		return nil, err
	}
	return &Sealing{aead: aead, idKey: derive("names of pieces"), proof: fmt.Sprintf("%x", derive("which key")[:8])}, nil
}

// ID names a piece: by a hash with a key, so that nobody can tell by the names whether
// a store holds something that he knows.
func (s *Sealing) ID(data []byte) (id ID) {
	if s == nil {
		return PlainID(data)
	}
	hasher, err := blake3.NewKeyed(s.idKey)
	if err != nil {
		panic(err) // only a key of another length than ours is refused
	}
	_, _ = hasher.Write(data) // a hash does not fail
	hasher.Sum(id[:0])
	return id
}

// Close seals bytes: a random nonce, then the sealed bytes with their proof.
func (s *Sealing) Close(data []byte) []byte {
	if s == nil {
		return data
	}
	out := make([]byte, chacha20poly1305.NonceSizeX, chacha20poly1305.NonceSizeX+len(data)+chacha20poly1305.Overhead)
	_, _ = rand.Read(out) // never fails, by its contract
	return s.aead.Seal(out, out, data, nil)
}

// Open unseals what was stored.
func (s *Sealing) Open(stored []byte) ([]byte, error) {
	if s == nil {
		return stored, nil
	}
	if len(stored) < chacha20poly1305.NonceSizeX {
		return nil, errors.New("it is cut off")
	}
	nonce, sealed := stored[:chacha20poly1305.NonceSizeX], stored[chacha20poly1305.NonceSizeX:]
	data, err := s.aead.Open(nil, nonce, sealed, nil)
	if err != nil {
		return nil, errors.New("its bytes are not those that were written")
	}
	return data, nil
}

// Secret opens a sealed store: a passphrase, or the keys of an age key file.
type Secret struct {
	Passphrase string
	Keys       []age.Identity
}

// ReadKeys reads an age key file: one secret key a line.
func ReadKeys(from io.Reader) (Secret, error) {
	keys, err := age.ParseIdentities(from)
	return Secret{Keys: keys}, err
}

// Unlock returns the secret of a sealed store; it is only asked where there is one.
type Unlock func() (Secret, error)

// Reasons why a sealed store cannot be opened.
var (
	// ErrSealed says that nobody named the secret.
	ErrSealed = errors.New("the store is sealed")
	// ErrNotSealed says that there is no sealed store where one was expected.
	ErrNotSealed = errors.New("there is no sealed store")
	// ErrWrongKey says that the secret is not this store's: nothing is damaged.
	ErrWrongKey = errors.New("the passphrase or key does not open this store")
)

func (s Secret) identities() ([]age.Identity, error) {
	if s.Passphrase == "" {
		return s.Keys, nil
	}
	identity, err := age.NewScryptIdentity(s.Passphrase)
	return []age.Identity{identity}, err
}

func (s Secret) recipients() ([]age.Recipient, error) {
	if s.Passphrase != "" {
		recipient, err := age.NewScryptRecipient(s.Passphrase)
		return []age.Recipient{recipient}, err
	}
	var all []age.Recipient
	for _, key := range s.Keys {
		switch key := key.(type) {
		case *age.X25519Identity:
			all = append(all, key.Recipient())
		case *age.HybridIdentity:
			all = append(all, key.Recipient())
		default:
			return nil, fmt.Errorf("a %T cannot be used for a store", key)
		}
	}
	if len(all) == 0 {
		return nil, errors.New("an empty passphrase, or a key file without keys, seals nothing")
	}
	return all, nil
}

// unlocked is what the key file of a sealed store holds.
type unlocked struct {
	seal *Sealing
	key  []byte
	file []byte // as it stands in the store
}

// unlock reads the store's key. proof is what the marker says of it.
func unlock(ctx context.Context, at Bytes, proof string, ask Unlock) (is unlocked, err error) {
	if ask == nil {
		return is, ErrSealed
	}
	is.file, err = getWhole(ctx, at, sealKeyName)
	if errors.Is(err, fs.ErrNotExist) {
		return is, fmt.Errorf("the store is sealed, and its key file %s is gone: put a copy of it back", sealKeyName)
	}
	if err != nil {
		return is, err
	}
	secret, err := ask()
	if err != nil {
		return is, err
	}
	identities, err := secret.identities()
	if err != nil {
		return is, err
	}
	var none *age.NoIdentityMatchError
	opened, err := age.Decrypt(bytes.NewReader(is.file), identities...)
	if errors.As(err, &none) {
		return is, ErrWrongKey
	}
	if err != nil {
		return is, fmt.Errorf("the key file %s is damaged: %w", sealKeyName, err)
	}
	is.key, err = io.ReadAll(opened)
	if err != nil || len(is.key) != sealKeySize {
		return is, fmt.Errorf("the key file %s is damaged: %w", sealKeyName, errors.Join(err, errors.New("it holds no key of a store")))
	}
	is.seal, err = newSeal(is.key)
	if err == nil && is.seal.proof != proof {
		err = fmt.Errorf("the key file %s is that of another store: put this store's own back", sealKeyName)
	}
	return is, err
}

// keyFor writes the store's key for whoever has the secret.
func keyFor(key []byte, secret Secret) ([]byte, error) {
	recipients, err := secret.recipients()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, recipients...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(key); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// ErrNotEmpty says that a store holds snapshots that are not sealed.
var ErrNotEmpty = errors.New("the store holds snapshots already, which cannot be sealed afterwards")

// Seal makes a new sealed store in dir, or, where there is one, gives it another
// secret; then old opens it. A store that holds open snapshots gets ErrNotEmpty.
func Seal(ctx context.Context, dir string, old Unlock, secret Secret) error {
	at := DiskBytes{Dir: dir}
	text, err := getWhole(ctx, at, MarkerName)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if proof, sealed := strings.CutPrefix(string(text), sealedText); sealed {
		is, err := unlock(ctx, at, strings.TrimSpace(proof), old)
		if err != nil {
			return err
		}
		file, err := keyFor(is.key, secret)
		if err != nil {
			return err
		}
		return at.Replace(ctx, sealKeyName, is.file, file)
	}
	store, err := Open(ctx, dir, nil) // refuses what is no store
	if err != nil {
		return err
	}
	fresh, release, err := store.Alone(ctx)
	if err != nil {
		return err
	}
	return errors.Join(fresh.sealNew(ctx, secret), release())
}

// sealNew seals an empty store.
func (s *Store) sealNew(ctx context.Context, secret Secret) error {
	names, err := s.Names(ctx)
	if err != nil {
		return err
	}
	if len(names)+len(s.volumes) > 0 {
		return ErrNotEmpty
	}
	key := make([]byte, sealKeySize)
	_, _ = rand.Read(key) // never fails, by its contract
	seal, err := newSeal(key)
	if err != nil {
		return err
	}
	file, err := keyFor(key, secret)
	if err != nil {
		return err
	}
	// The key first: a sealed store without its key would be lost. That of a store that was not
	// sealed in the end opens nothing.
	if err := s.Bytes.Delete(ctx, sealKeyName); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := PutWhole(ctx, s.Bytes, sealKeyName, file); err != nil {
		return err
	}
	return s.Bytes.Replace(ctx, MarkerName, []byte(markerText), []byte(sealedText+seal.proof+"\n"))
}
