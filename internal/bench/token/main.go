// Token writes a key set into a file and prints an access token that is signed with it, for measuring
// the guard.
package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

func main() {
	if err := run(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

func run(path string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	set, err := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "1", Algorithm: "ES256", Use: "sig"}}})
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, set, 0o600); err != nil {
		return err
	}
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: key},
		(&jose.SignerOptions{}).WithType("at+jwt").WithHeader("kid", "1"),
	)
	if err != nil {
		return err
	}
	now := time.Now()
	token, err := jwt.Signed(signer).Claims(map[string]any{"iss": "https://idp.example", "aud": "door", "sub": "ingrid@kestrelsound.example",
		"client_id": "gateway", "jti": "1", "sid": "s-1", "iat": now.Unix(), "exp": now.Add(time.Hour).Unix(), "auth_time": now.Unix(),
		"amr": []string{"pwd", "mca"}}).Serialize()
	if err != nil {
		return err
	}
	fmt.Println(token)
	return nil
}
