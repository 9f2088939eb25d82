package fake

// This file hashes passwords by bcrypt (Provos and Mazières 1999) over the
// library's cipher. The library's own bcrypt takes its salt from the machine, and
// would give another hash each time; here the salt comes from the password, so
// that the same seed gives the same rows. That is fit for made-up people alone,
// and so is the low cost.

import (
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"sync"

	"golang.org/x/crypto/blowfish" //lint:ignore SA1019 bcrypt is defined over it
)

const (
	minCost = 4
	// MaxCost is the highest cost of a hash that a seed asks for: some seconds.
	MaxCost = 15
)

var bcryptBase64 = base64.NewEncoding("./ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789").
	WithPadding(base64.NoPadding)

// salts is how many hashes a password has at the least cost: rows have one of them each, since
// working out one for every row would take longer than all the rest.
const salts = 256

// hashed is a hash of a password, "$2a$04$" and so on; each distinct one is worked out once.
func hashed(r *Random, password string, cost int) string {
	cost = min(max(cost, minCost), MaxCost)
	salt := r.Below(uint64(max(4, salts>>(cost-minCost))))
	key := fmt.Sprintf("%d %d %s", cost, salt, password)
	if h, ok := hashes.Load(key); ok {
		return h.(string)
	}
	h := hash(password, cost, salt)
	hashes.Store(key, h)
	return h
}

var hashes sync.Map

func hash(password string, cost int, number uint64) string {
	var salt [16]byte
	r := NewRandom(Hash("bcrypt"), Hash(password), uint64(cost), number)
	binary.BigEndian.PutUint64(salt[:8], r.Uint64())
	binary.BigEndian.PutUint64(salt[8:], r.Uint64())
	key := append([]byte(password), 0)
	key = key[:min(len(key), 72)]
	c, err := blowfish.NewSaltedCipher(key, salt[:])
	if err != nil {
		return "" // only for an empty key, and this one ends in a zero
	}
	for range uint64(1) << cost {
		blowfish.ExpandKey(key, c)
		blowfish.ExpandKey(salt[:], c)
	}
	text := []byte("OrpheanBeholderScryDoubt")
	for i := 0; i < len(text); i += 8 {
		for range 64 {
			c.Encrypt(text[i:i+8], text[i:i+8])
		}
	}
	return fmt.Sprintf("$2a$%02d$%s%s", cost, bcryptBase64.EncodeToString(salt[:]),
		bcryptBase64.EncodeToString(text[:23]))
}
