package proof

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 28, 9, 30, 0, 0, time.UTC)

func headers(pairs ...string) http.Header {
	h := http.Header{}
	for i := 0; i < len(pairs); i += 2 {
		h.Set(pairs[i], pairs[i+1])
	}
	return h
}

func sum(secret, text string) []byte {
	m := hmac.New(sha256.New, []byte(secret))
	m.Write([]byte(text))
	return m.Sum(nil)
}

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

const body = `{"lot": 7}`

// What is proven as a caller would is taken, whatever the way.
func TestWhatIsProvenIsTaken(t *testing.T) {
	t.Parallel()
	standard := StandardPrefix + base64.StdEncoding.EncodeToString([]byte("a key of the standard, long enough"))
	for name, r := range map[string]Rule{
		"nothing said": {}, "a bearer": {Way: Bearer}, "a password": {Way: Basic, User: "kiln"}, "a password of anybody": {Way: Basic}, "a header": {Way: InHeader, Header: "X-Kiln-Key"}, "a standard": {Way: Standard}, "nothing": {Way: Open},
		"a signature":            {Way: Signature, Header: "X-Sign", Signed: "{body}"},
		"a signature with times": {Way: Signature, Header: "X-Sign", Signed: "v0:{time}:{id}:{body}", Hash: "sha512", Base64: true, Prefix: "v0=", TimeIn: "X-Time", IDIn: "X-ID", Window: time.Minute},
	} {
		secret := "new"
		if r.Way == Standard {
			secret = standard
		}
		h, err := r.Prove([]byte(body), secret, "d7", now)
		require.NoError(t, err, name)
		got, err := r.Check(h, []byte(body), []string{secret}, now)
		require.NoError(t, err, name)
		if r.IDIn != "" || r.Way == Standard {
			require.Equal(t, "d7", got.ID, name)
		}
		if r.Way != Open {
			_, err = r.Check(h, []byte(body), []string{StandardPrefix + "AAAA"}, now)
			require.Error(t, err, name)
		}
	}
	_, err := Rule{Way: Standard}.Prove([]byte(body), StandardPrefix+"%%", "d7", now)
	require.ErrorContains(t, err, "the secret signs nothing")
}

func TestWhoKnowsTheSecretIsTaken(t *testing.T) {
	t.Parallel()
	at := strconv.FormatInt(now.Unix(), 10)
	timed := Rule{Way: Signature, Header: "X-Kiln-Signature", Signed: "v0:{time}:{body}", Hash: "sha256", Prefix: "v0=", TimeIn: "X-Kiln-Time", IDIn: "X-Kiln-Delivery", Window: 5 * time.Minute}
	big := hmac.New(sha512.New, []byte("new"))
	big.Write([]byte(body))
	for name, c := range map[string]struct {
		rule   Rule
		header http.Header
		want   Proof
	}{
		"a bearer token":         {Rule{Way: Bearer}, headers("Authorization", "Bearer new"), Proof{}},
		"the one before":         {Rule{Way: Bearer}, headers("Authorization", "Bearer  old "), Proof{Secret: 1}},
		"a password":             {Rule{Way: Basic, User: "kiln"}, headers("Authorization", basic("kiln", "new")), Proof{}},
		"a password of anybody":  {Rule{Way: Basic}, headers("Authorization", basic("whoever", "old")), Proof{Secret: 1}},
		"a header":               {Rule{Way: InHeader, Header: "X-Kiln-Key"}, headers("X-Kiln-Key", "new"), Proof{}},
		"a signature":            {Rule{Way: Signature, Header: "X-Sign", Signed: "{body}"}, headers("X-Sign", hex.EncodeToString(sum("new", body))), Proof{}},
		"one with a prefix":      {Rule{Way: Signature, Header: "X-Sign", Signed: "{body}", Prefix: "sha256=", Base64: true}, headers("X-Sign", "sha256="+base64.StdEncoding.EncodeToString(sum("old", body))), Proof{Secret: 1}},
		"one of several":         {Rule{Way: Signature, Header: "X-Sign", Signed: "{body}", Prefix: "v1="}, headers("X-Sign", "v1=00, v1="+hex.EncodeToString(sum("new", body))), Proof{}},
		"another hash":           {Rule{Way: Signature, Header: "X-Sign", Signed: "{body}", Hash: "sha512"}, headers("X-Sign", hex.EncodeToString(big.Sum(nil))), Proof{}},
		"with a time and an id":  {timed, headers("X-Kiln-Signature", "v0="+hex.EncodeToString(sum("new", "v0:"+at+":"+body)), "X-Kiln-Time", at, "X-Kiln-Delivery", "d7"), Proof{ID: "d7"}},
		"nobody proves anything": {Rule{Way: Open}, http.Header{}, Proof{Secret: -1}},
	} {
		got, err := c.rule.Check(c.header, []byte(body), []string{"new", "old"}, now)
		require.NoError(t, err, name)
		require.Equal(t, c.want, got, name)
	}
}

func TestTheStandardWebhooks(t *testing.T) {
	t.Parallel()
	// The example of their specification.
	secret := "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	sent := `{"test": 2432232314}`
	at := time.Unix(1614265330, 0)
	h := headers("webhook-id", "msg_p5jXN8AQM9LWM0D4loKWxJek", "webhook-timestamp", "1614265330", "webhook-signature", "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=")
	got, err := Rule{Way: Standard}.Check(h, []byte(sent), []string{"another", secret}, at)
	require.NoError(t, err)
	require.Equal(t, Proof{Secret: 1, ID: "msg_p5jXN8AQM9LWM0D4loKWxJek"}, got)
	_, err = Rule{Way: Standard}.Check(h, []byte(sent), []string{secret}, at.Add(6*time.Minute))
	require.ErrorContains(t, err, "is more than 5m0s from ours")
	_, err = Rule{Way: Standard}.Check(h, []byte(sent+" "), []string{secret}, at)
	require.ErrorContains(t, err, "is not that of what was sent")
	require.Contains(t, Rule{Way: Standard}.Held(), "Webhook-Signature")
	require.False(t, Rule{Way: Standard}.ByHeader())
}

func TestWhyACallIsNotProven(t *testing.T) {
	t.Parallel()
	old := strconv.FormatInt(now.Add(-6*time.Minute).Unix(), 10)
	signed := Rule{Way: Signature, Header: "X-Sign", Signed: "{time}.{body}", TimeIn: "X-Time", IDIn: "X-Id", Window: 5 * time.Minute}
	for name, c := range map[string]struct {
		rule   Rule
		header http.Header
		want   string
	}{
		"no header":           {Rule{Way: Bearer}, http.Header{}, "had no Authorization header; it should be: Authorization: Bearer"},
		"another way":         {Rule{Way: Bearer}, headers("Authorization", basic("a", "new")), "does not begin with Bearer"},
		"another secret":      {Rule{Way: Bearer}, headers("Authorization", "Bearer mistaken"), "in the Authorization header is not the right one"},
		"half of it":          {Rule{Way: Bearer}, headers("Authorization", "Bearer ne"), "is not the right one"},
		"no password":         {Rule{Way: Basic}, http.Header{}, "it should be Basic"},
		"a token":             {Rule{Way: Basic}, headers("Authorization", "Bearer new"), "does not begin with Basic"},
		"no base64":           {Rule{Way: Basic}, headers("Authorization", "Basic !"), "no user and password in base64"},
		"another user":        {Rule{Way: Basic, User: "kiln"}, headers("Authorization", basic("lab", "new")), "another than kiln"},
		"another password":    {Rule{Way: Basic, User: "kiln"}, headers("Authorization", basic("kiln", "mistaken")), "is not the right one"},
		"no such header":      {Rule{Way: InHeader, Header: "X-Key"}, headers("Authorization", "Bearer new"), "had no header X-Key, in which the secret comes"},
		"another in it":       {Rule{Way: InHeader, Header: "X-Key"}, headers("X-Key", "mistaken"), "the secret in the header X-Key is not the right one"},
		"no signature":        {signed, http.Header{}, "had no header X-Sign, in which the signature comes"},
		"no time":             {signed, headers("X-Sign", "00"), "had no header X-Time, in which its time comes"},
		"a time that is none": {signed, headers("X-Sign", "00", "X-Time", "noon"), "is neither seconds since 1970 nor"},
		"long ago":            {signed, headers("X-Sign", "00", "X-Time", old), "is more than 5m0s from ours"},
		"no id":               {signed, headers("X-Sign", "00", "X-Time", now.Format(time.RFC3339)), "had no header X-Id"},
		"a signature of none": {signed, headers("X-Sign", "zz", "X-Time", now.Format(time.RFC3339), "X-Id", "7"), "is not that of what was sent"},
		"without its prefix":  {Rule{Way: Signature, Header: "X-Sign", Signed: "{body}", Prefix: "sha256="}, headers("X-Sign", hex.EncodeToString(sum("new", body))), "is not that of what was sent"},
		"of something else":   {Rule{Way: Signature, Header: "X-Sign", Signed: "{body}"}, headers("X-Sign", hex.EncodeToString(sum("new", body+" "))), "is not that of what was sent"},
	} {
		_, err := c.rule.Check(c.header, []byte(body), []string{"new", "old"}, now)
		var refusal *Refusal
		require.ErrorAs(t, err, &refusal, name)
		require.Contains(t, err.Error(), c.want, name)
		require.NotContains(t, err.Error(), "mistaken", "what was sent is not told again")
		_, err = c.rule.Check(c.header, []byte(body), nil, now)
		require.ErrorContains(t, err, "no secret has been made", name)
	}
}
