package main

import (
	"context"
	"math/rand/v2"
	"syscall"
	"time"

	"youngtrellis/internal/cluster/clustertest"
)

// statements are the points at which connections are cut: all that a node says
// about its runs.
var statements = []string{"INSERT INTO start_key", "INSERT INTO journal", "DELETE FROM live", "UPDATE live", "FROM spaces", "INSERT INTO lattice", "node_session", "hold_session"}

// fault breaks something, for a while or for good, and mends it.
type fault struct {
	name   string
	weight int // how often it comes beside the others
	happen func(n *node) error
}

// faults are all that there are.
func (w *world) faults(ctx context.Context, dice *rand.Rand) []fault {
	short := func(most time.Duration) time.Duration { return time.Duration(dice.Int64N(int64(most))) }
	return []fault{
		{"a node killed", 8, func(n *node) error {
			n.kill()
			time.Sleep(short(lease))
			return n.start()
		}},
		{"a node killed and replaced only after its lease", 2, func(n *node) error {
			n.kill()
			time.Sleep(2 * lease)
			return n.start()
		}},
		{"a node paused past its lease", 3, func(n *node) error {
			n.signal(syscall.SIGSTOP)
			time.Sleep(lease + short(lease))
			n.signal(syscall.SIGCONT)
			return nil
		}},
		{"a node stopped in order, and started", 5, func(n *node) error {
			n.stop()
			return n.start()
		}},
		{"PostgreSQL killed and started", 3, func(*node) error {
			_ = w.cluster.Stop(true)
			time.Sleep(short(time.Second))
			return w.cluster.Restart(ctx)
		}},
		{"PostgreSQL read-only for up to three seconds", 3, func(*node) error {
			if err := w.cluster.SetReadOnly(ctx, w.database, true); err != nil {
				return err
			}
			time.Sleep(short(3 * time.Second))
			return w.cluster.SetReadOnly(ctx, w.database, false)
		}},
		{"all connections of a node silent", 2, func(n *node) error {
			n.proxy.Silence()
			return nil
		}},
		{"a node's way to PostgreSQL silent for up to three seconds", 2, func(n *node) error {
			n.proxy.SetMute(true)
			n.proxy.Silence()
			time.Sleep(short(3 * time.Second))
			n.proxy.SetMute(false)
			return nil
		}},
		{"all connections of a node cut", 6, func(n *node) error {
			n.proxy.CutAll()
			return nil
		}},
		{"a connection cut before a statement", 6, func(n *node) error { return w.cut(n, dice, clustertest.Before) }},
		{"a connection cut within an answer", 6, func(n *node) error { return w.cut(n, dice, clustertest.Within) }},
		{"an answer lost", 10, func(n *node) error { return w.cut(n, dice, clustertest.After) }},
	}
}

// planned draws so many faults; each kind comes once before any comes as often
// as its weight says.
func planned(all []fault, n int, dice *rand.Rand) (out []fault) {
	bag := append([]fault(nil), all...)
	for len(out) < n {
		dice.Shuffle(len(bag), func(i, j int) { bag[i], bag[j] = bag[j], bag[i] })
		out = append(out, bag...)
		bag = bag[:0]
		for _, f := range all {
			for range f.weight {
				bag = append(bag, f)
			}
		}
	}
	return out[:n]
}

// cut cuts a node's connection at the next few statements of a kind.
func (w *world) cut(n *node, dice *rand.Rand, how clustertest.Cut) error {
	n.proxy.On(statements[dice.IntN(len(statements))], how, 1+dice.IntN(3))
	return nil
}
