package main

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// load sends n bodies from many callers at once; each must be taken.
func load(n, callers int, address, secret string, body func(i int) string) (time.Duration, error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	defer client.CloseIdleConnections()
	next := make(chan int)
	failed := make(chan error, callers)
	var wait sync.WaitGroup
	began := time.Now()
	for range callers {
		wait.Go(func() {
			for i := range next {
				if err := send(client, address, secret, body(i)); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wait.Wait()
	select {
	case err := <-failed:
		return 0, err
	default:
		return time.Since(began), nil
	}
}

func send(client *http.Client, address, secret, body string) error {
	req, err := http.NewRequest(http.MethodPost, address, strings.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if secret != "" {
		req.Header.Set("Authorization", "Bearer "+secret)
	}
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	said, _ := io.ReadAll(res.Body)
	if res.StatusCode != http.StatusAccepted {
		return fmt.Errorf("answered %d: %s", res.StatusCode, said)
	}
	return nil
}

var round int

// reports makes the bodies of a round; ids are never the same twice.
func reports(seconds int) func(int) string {
	round++
	r := strconv.Itoa(round)
	return func(i int) string {
		return `{"call_id": "b` + r + `-` + strconv.Itoa(i) + `", "number": "+441632960141", "caller": "Hollowbank Pottery", "duration_s": ` + strconv.Itoa(seconds) + `, "ended": "2026-11-20T13:12:04Z"}`
	}
}

// pair is one measurement of each side, in works a second.
type pair struct{ ours, bare float64 }

// compare makes a result of pairs: the median of the ratios with their spread.
func compare(r Result, list []pair) Result {
	var ours, bare, ratios []float64
	for _, p := range list {
		ours, bare, ratios = append(ours, p.ours), append(bare, p.bare), append(ratios, p.ours/p.bare)
	}
	r.Unit, r.Ours, r.Bare, r.Value, r.Least, r.Most = "ratio", median(ours), median(bare), median(ratios), slices.Min(ratios), slices.Max(ratios)
	return r
}

func median(list []float64) float64 {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[len(sorted)/2]
}

// percentile is the value below which so much of a list lies.
func percentile(list []float64, p float64) float64 {
	sorted := slices.Sorted(slices.Values(list))
	return sorted[min(len(sorted)-1, int(float64(len(sorted))*p))]
}

// figure makes a result of a figure that stands for itself.
func figure(r Result, unit string, list ...float64) Result {
	r.Unit, r.Value, r.Least, r.Most = unit, median(list), slices.Min(list), slices.Max(list)
	return r
}

// used divides the processor time of each process by the works done.
func used(before, after map[string]float64, works int, names ...string) map[string]float64 {
	out := map[string]float64{}
	for _, name := range names {
		out[name] = (after[name] - before[name]) * 1e6 / float64(works)
	}
	return out
}
