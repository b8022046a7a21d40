package personal

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
)

func TestWhatIsPersonalIsMaskedInItsForm(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		in, out string
		paths   []string
	}{
		"a call":                 {`{"call_id":"c-17","caller":"Hollowbank Pottery","number":"+441632960141","duration_s":184,"ended":"2026-11-28T13:12:04Z"}`, `{"call_id":"c-17","caller":"Xxxxxxxxxx Xxxxxxx","duration_s":184,"ended":"2026-11-28T13:12:04Z","number":"+440000000000"}`, []string{"caller", "number"}},
		"mail within a text":     {`{"text":"Write to ada.fen@ottermere.example or call"}`, `{"text":"Write to xxx.xxx@example.com or call"}`, []string{"text"}},
		"a name beside an email": {`{"name":"Ada Fen","email":"ada@ottermere.example","piece":{"name":"Tall jug"}}`, `{"email":"xxx@example.com","name":"Xxx Xxx","piece":{"name":"Tall jug"}}`, []string{"email", "name"}},
		"a name of a thing":      {`{"name":"kiln-2-morning.wav","count":3}`, `{"count":3,"name":"kiln-2-morning.wav"}`, nil},
		"names and places":       {`{"First Name":"Ada","last_name":"Fen","Street":"Mill Lane 7","postcode":"1200-031","birthDate":"1990-04-01"}`, `{"First Name":"Xxx","Street":"Xxxx Xxxx 0","birthDate":"0000-00-00","last_name":"Xxx","postcode":"0000-000"}`, []string{"First Name", "Street", "birthDate", "last_name", "postcode"}},
		"deep, in lists":         {`{"people":[{"contact":{"phone":"01632 960142"}},{"contact":{"phone":""}}],"who":["Ada","Mara"]}`, `{"people":[{"contact":{"phone":"00000 000000"}},{"contact":{"phone":""}}],"who":["Xxx","Xxxx"]}`, []string{"people.contact.phone", "who"}},
		"numbers":                {`{"phone":351912345678,"number":7,"iban":"PT50 0002 0123 1234 5678 9015 4","from":"+351 912-345-678"}`, `{"from":"+350 000-000-000","iban":"XX00 0000 0000 0000 0000 0000 0","number":7,"phone":1000000}`, []string{"from", "iban", "phone"}},
		"addresses of machines":  {`{"ip":"203.0.113.7","v6":"2001:db8::7","own":"127.0.0.1"}`, `{"ip":"192.0.2.1","own":"127.0.0.1","v6":"192.0.2.1"}`, []string{"ip", "v6"}},
		"what is nothing":        {`{"caller":null,"number":"","email":false,"at":"x@y"}`, `{"at":"x@y","caller":null,"email":false,"number":""}`, nil},
		"letters of any kind":    {`{"caller":"Зоя Örn"}`, `{"caller":"Xxx Xxx"}`, []string{"caller"}},
	} {
		in, err := item.DecodeObject([]byte(c.in))
		require.NoError(t, err, name)
		before, err := item.Encode(in)
		require.NoError(t, err)
		out, paths := Masked(in)
		text, err := item.Encode(out)
		require.NoError(t, err, name)
		wanted, err := item.DecodeObject([]byte(c.out))
		require.NoError(t, err)
		want, err := item.Encode(wanted)
		require.NoError(t, err)
		require.Equal(t, string(want), string(text), name)
		require.Equal(t, c.paths, paths, name)
		after, err := item.Encode(in)
		require.NoError(t, err)
		require.Equal(t, before, after, "what came stays as it is")
	}
}

func TestFilesStayAsTheyAre(t *testing.T) {
	t.Parallel()
	file := (&item.File{ID: "sha256-" + "0123456789012345678901234567890123456789012345678901234567890123", Name: "ada@ottermere.example.png", Type: "image/png", Size: 7}).Value()
	out, paths := Masked(map[string]any{"picture": file})
	require.Equal(t, map[string]any{"picture": file}, out)
	require.Empty(t, paths)
}
