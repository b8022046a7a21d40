package kept

import (
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

// source counts how often it was read.
type source struct{ reads int }

func (s *source) read() (int, error) {
	s.reads++
	return s.reads, nil
}

func TestAValueIsReadOnceInAWhile(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		k, s := New[string, int](2*time.Second, 10), &source{}
		for range 3 {
			v, err := k.Get("a", s.read)
			require.NoError(t, err)
			require.Equal(t, 1, v)
		}
		time.Sleep(2*time.Second - 1)
		v, _ := k.Get("a", s.read)
		require.Equal(t, 1, v)
		time.Sleep(time.Nanosecond)
		v, _ = k.Get("a", s.read)
		require.Equal(t, 2, v, "it is kept for two seconds and not longer")
		v, _ = k.Get("b", s.read)
		require.Equal(t, 3, v, "another key is another value")
		k.Forget("a")
		v, _ = k.Get("a", s.read)
		require.Equal(t, 4, v)
		v, _ = k.Get("b", s.read)
		require.Equal(t, 3, v, "what was not forgotten stays")
	})
}

func TestAValueThatIsOverSoonerIsReadSooner(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		k, s := New[string, time.Time](2*time.Second, 10), 0
		k.Over = func(v time.Time) time.Time { return v }
		read := func(over time.Time) func() (time.Time, error) {
			return func() (time.Time, error) { s++; return over, nil }
		}
		for key, after := range map[string]time.Duration{"sooner": time.Second, "later": 2 * time.Second} {
			s = 0
			for _, over := range []time.Time{time.Now().Add(time.Second), {}} {
				if key == "later" {
					over = over.Add(time.Hour)
				}
				_, _ = k.Get(key, read(over))
			}
			require.Equal(t, 1, s)
			time.Sleep(after - 1)
			_, _ = k.Get(key, read(time.Time{}))
			require.Equal(t, 1, s, key)
			time.Sleep(time.Nanosecond)
			_, _ = k.Get(key, read(time.Time{}))
			require.Equal(t, 2, s, key)
			time.Sleep(2*time.Second - 1)
			_, _ = k.Get(key, read(time.Time{}))
			require.Equal(t, 2, s, "the zero time is never")
		}
	})
}

func TestWhatWasBeingReadWhenItChangedIsNotKept(t *testing.T) {
	t.Parallel()
	k := New[string, string](time.Hour, 10)
	v, err := k.Get("a", func() (string, error) {
		k.Forget("a") // it changes while the old one is on its way
		return "old", nil
	})
	require.NoError(t, err)
	require.Equal(t, "old", v, "whoever asked before the change is answered")
	v, err = k.Get("a", func() (string, error) { return "new", nil })
	require.NoError(t, err)
	require.Equal(t, "new", v)
	v, err = k.Get("a", func() (string, error) { return "newer", nil })
	require.NoError(t, err)
	require.Equal(t, "new", v, "and kept from then on")
}

func TestAFailureIsNotKept(t *testing.T) {
	t.Parallel()
	k, broken := New[string, int](time.Hour, 10), errors.New("broken")
	_, err := k.Get("a", func() (int, error) { return 0, broken })
	require.ErrorIs(t, err, broken)
	v, err := k.Get("a", (&source{}).read)
	require.NoError(t, err)
	require.Equal(t, 1, v)
}

func TestOnlySoManyAreKept(t *testing.T) {
	t.Parallel()
	for _, most := range []int{-1, 0, 1, 3} {
		k, s := New[int, int](time.Hour, most), &source{}
		for i := range 100 {
			_, err := k.Get(i, s.read)
			require.NoError(t, err)
		}
		require.Equal(t, max(most, 1), k.list.Len())
		v, err := k.Get(99, s.read)
		require.NoError(t, err)
		require.Equal(t, 100, v, "the last one is kept")
		v, err = k.Get(0, s.read)
		require.NoError(t, err)
		require.Equal(t, 101, v, "the one that was used longest ago went")
	}
}

func TestManyMayAskAndForgetAtOnce(t *testing.T) {
	t.Parallel()
	k := New[int, int](time.Hour, 8)
	var now sync.Map // what is right
	for i := range 8 {
		now.Store(i, 0)
	}
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for n := 1; n <= 500; n++ {
				now.Store(i, n)
				k.Forget(i)
				v, err := k.Get(i, func() (int, error) { v, _ := now.Load(i); return v.(int), nil })
				if err != nil || v != n {
					t.Errorf("%d of %d, which is %d (%v)", v, i, n, err)
				}
			}
		})
		all.Go(func() {
			for n := range 500 {
				_, _ = k.Get((i+n)%8, func() (int, error) { v, _ := now.Load((i + n) % 8); return v.(int), nil })
			}
		})
	}
	all.Wait()
}
