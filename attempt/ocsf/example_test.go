package ocsf_test

import (
	"fmt"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/attempt/ocsf"
)

// An event of an identity provider becomes an attempt; a log-off is none.
func ExampleParse() {
	for _, line := range []string{
		`{"class_uid": 3002, "activity_id": 1, "status_id": 1, "time": 1795468440000, "user": {"name": "ingrid@kestrelsound.example"}, "service": {"name": "mail"},
		  "src_endpoint": {"ip": "192.0.2.70", "location": {"country": "NO"}}, "auth_factors": [{"factor_type_id": 11}, {"factor_type_id": 5}]}`,
		`{"class_uid": 3002, "activity_id": 2, "time": 1795468500000, "user": {"name": "ingrid@kestrelsound.example"}}`,
	} {
		var a attempt.Attempt
		is, err := ocsf.Parse([]byte(line), ocsf.Known{}, &a)
		if err != nil || !is {
			fmt.Println(is, err)
			continue
		}
		country, _ := a.Country.Get()
		fmt.Println(a.Account, a.App, country, a.Proofs[0].Method, a.Proofs[1].Method)
	}
	// Output:
	// ingrid@kestrelsound.example mail NO password push
	// false <nil>
}
