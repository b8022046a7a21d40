// Package switchboard is the stand-in for the telephone desk: it reports each
// ended call to a webhook with a bearer secret. Like the real thing it
// sometimes reports twice, late, out of order, or with half a number.
package switchboard

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"
)

// Call is a report of an ended call.
type Call struct {
	CallID    string `json:"call_id"`
	Direction string `json:"direction"`
	Number    string `json:"number,omitempty"`       // the caller's own number
	Shown     string `json:"shown_number,omitempty"` // the one shown, where the own is withheld
	Caller    string `json:"caller,omitempty"`
	Line      string `json:"line"`
	Seconds   int    `json:"duration_s"`
	Said      string `json:"said,omitempty"` // what was taken down of it
	Started   string `json:"started"`
	Ended     string `json:"ended"`
	Note      string `json:"-"` // what is special about it
}

// Fourteen is the demo's afternoon: fourteen reports, among them three short
// calls, one report sent twice, one out of order and one with half a number.
func Fourteen(day time.Time, round string) []Call {
	calls := []Call{
		{Caller: "Hollowbank Pottery", Number: "+441632960141", Seconds: 184, Said: "They need two bags of stoneware and one of porcelain by Thursday. The last porcelain was fine. They will collect it."},
		{Caller: "Osierbed Ceramics", Number: "+441632960142", Seconds: 62},
		{Number: "+441632960158", Seconds: 4, Note: "short"},
		{Caller: "Fernhill Pots", Shown: "+441632960171", Seconds: 241, Said: "A new studio with a small electric kiln. They asked which glazes go to cone six. A sample board was promised.", Note: "a new studio, only the shown number"},
		{Caller: "Tern & Tide", Number: "+441632960143", Seconds: 35},
		{Caller: "Hollowbank Pottery", Number: "+441632960141", Seconds: 20, Note: "just long enough"},
		{Caller: "Saltgrass Studio", Number: "+44 1632", Seconds: 97, Note: "half a number"},
		{Caller: "Quern Lane", Number: "+441632960146", Seconds: 19, Note: "short by a second"},
		{Caller: "Mudlark Yard", Number: "+441632960147", Seconds: 310, Said: "Their last firing overran by two hours. Wren is to call back about the thermocouple. The next load waits."},
		{Caller: "Fernhill Pots", Number: "+441632960171", Seconds: 55, Note: "the new studio again"},
		{Caller: "Three Kilns", Number: "+441632960148", Seconds: 128, Said: "They would like the invoice of October again."},
		{Number: "+441632960159", Seconds: 11, Note: "short"},
		{Caller: "Lowlight Tileworks", Number: "+441632960145", Seconds: 76},
	}
	at := time.Date(day.Year(), day.Month(), day.Day(), 13, 2, 0, 0, time.UTC)
	for i := range calls {
		c := &calls[i]
		at = at.Add(time.Duration(7+i) * time.Minute)
		c.CallID, c.Direction, c.Line = fmt.Sprintf("call-%s-%02d", round, i+1), "in", "counter"
		c.Started, c.Ended = at.Format(time.RFC3339), at.Add(time.Duration(c.Seconds)*time.Second).Format(time.RFC3339)
	}
	calls[8], calls[9] = calls[9], calls[8]
	calls[9].Note = "out of order"
	twice := calls[4]
	twice.Note = "the same report again"
	return append(calls[:11:11], append([]Call{twice}, calls[11:]...)...)
}

// Answer is what the webhook said.
type Answer struct {
	Status int
	Body   string
}

// Report sends one call to an address, with the secret as bearer.
func Report(ctx context.Context, client *http.Client, address, secret string, c Call) (Answer, error) {
	b, err := json.Marshal(c)
	if err != nil {
		return Answer{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(b))
	if err != nil {
		return Answer{}, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+secret)
	res, err := client.Do(req)
	if err != nil {
		return Answer{}, err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	return Answer{res.StatusCode, string(body)}, err
}
