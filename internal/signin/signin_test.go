package signin

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

// clock is set by the test.
type clock struct {
	mu sync.Mutex
	at time.Time
}

func (c *clock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at
}

func (c *clock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = c.at.Add(d)
}

// people is a store with a person, that counts the passwords it looked at.
type people struct {
	mu       sync.Mutex
	id       uuid.UUID
	looked   int
	devices  map[string]bool
	sessions map[string]bool
	broken   error
}

func (p *people) CheckPassword(_ context.Context, email, password string) (uuid.UUID, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.looked++
	if email != "mara@ottermere.example" || password != "right" {
		return uuid.Nil, store.ErrSignIn
	}
	return p.id, nil
}

func (p *people) OpenBrowser(_ context.Context, _ uuid.UUID, had string) (string, store.Scope, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.sessions, had)
	cookie := uuid.NewString()
	p.sessions[cookie] = true
	return cookie, store.Scope{}, nil
}

func (p *people) KnowsDevice(_ context.Context, email, device string) (bool, error) {
	return email == "mara@ottermere.example" && p.devices[device], p.broken
}

func (p *people) AddDevice(context.Context, uuid.UUID) (string, error) {
	p.devices["d"+fmt.Sprint(len(p.devices))] = true
	return "d" + fmt.Sprint(len(p.devices)-1), nil
}

func service() (*Service, *people, *clock) {
	c := &clock{at: time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)}
	p := &people{id: uuid.New(), devices: map[string]bool{}, sessions: map[string]bool{}}
	return &Service{Store: p, Guard: NewGuard(c.now)}, p, c
}

// Ten thousand wrong passwords within an hour, from a thousand addresses.
func TestGuessingIsMadeSlow(t *testing.T) {
	t.Parallel()
	s, p, c := service()
	ctx := context.Background()
	mine, err := s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Address: "192.0.2.7"})
	require.NoError(t, err)
	require.NotEmpty(t, mine.Device)
	p.looked = 0
	for i := range 10_000 {
		_, err := s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "wrong", Address: fmt.Sprintf("198.51.%d.%d", i%1000/250, i%250)})
		var later *Later
		require.True(t, errors.Is(err, store.ErrSignIn) || errors.As(err, &later), "%v", err)
		c.pass(360 * time.Millisecond)
	}
	require.LessOrEqual(t, p.looked, 100)
	require.Greater(t, p.looked, 5)
	_, err = s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Address: "192.0.2.7"})
	var later *Later
	require.ErrorAs(t, err, &later, "a device that nobody knows waits, whoever holds it")
	require.LessOrEqual(t, later.Wait, longest)
	again, err := s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Address: "198.51.0.1", Device: mine.Device})
	require.NoError(t, err, "the owner gets in at the first try, even from an address that guessed")
	require.Empty(t, again.Device, "it is known already")
	c.pass(2 * time.Hour)
	_, err = s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Address: "192.0.2.9"})
	require.NoError(t, err, "and so does everybody once the guessing has ended")
}

// Many accounts from one address, or one network of version 6.
func TestAnAddressIsHeldBackWhateverItGuesses(t *testing.T) {
	t.Parallel()
	for name, address := range map[string]func(i int) string{
		"four": func(int) string { return "192.0.2.1" },
		"six":  func(i int) string { return fmt.Sprintf("2001:db8:1:2::%x", i+1) },
		"both": func(i int) string { return []string{"::ffff:192.0.2.1", "192.0.2.1"}[i%2] },
	} {
		s, p, c := service()
		for i := range 1000 {
			_, _ = s.In(context.Background(), Asked{Email: fmt.Sprintf("p%d@ottermere.example", i), Password: "x", Address: address(i)})
			c.pass(time.Second)
		}
		require.LessOrEqual(t, p.looked, 40, name)
		require.GreaterOrEqual(t, p.looked, freeOfAddress, name)
		_, err := s.In(context.Background(), Asked{Email: "mara@ottermere.example", Password: "right", Address: "2001:db8:1:3::1"})
		require.NoError(t, err, "the neighbours are not held back")
	}
}

func TestManyAtOnceAreNoMoreThanOneAfterTheOther(t *testing.T) {
	t.Parallel()
	s, p, _ := service()
	var wait sync.WaitGroup
	for range 200 {
		wait.Go(func() {
			_, _ = s.In(context.Background(), Asked{Email: "mara@ottermere.example", Password: "wrong", Address: "192.0.2.1"})
		})
	}
	wait.Wait()
	require.Equal(t, freeOfAccount, p.looked)
}

func TestASuccessIsNotCounted(t *testing.T) {
	t.Parallel()
	s, _, _ := service()
	for range 100 {
		_, err := s.In(context.Background(), Asked{Email: "mara@ottermere.example", Password: "right", Address: "192.0.2.1"})
		require.NoError(t, err)
	}
}

func TestAKnownDeviceIsHeldBackByItsOwnGuessesOnly(t *testing.T) {
	t.Parallel()
	s, p, c := service()
	ctx := context.Background()
	in, err := s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Address: "192.0.2.1"})
	require.NoError(t, err)
	p.looked = 0
	for range 100 {
		_, _ = s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "wrong", Address: "192.0.2.1", Device: in.Device})
	}
	require.Equal(t, freeOfDevice, p.looked, "a device that was stolen does not guess freely")
	_, err = s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Address: "192.0.2.1"})
	require.NoError(t, err, "and keeps nobody else out")
	c.pass(longest)
	_, err = s.In(ctx, Asked{Email: "wren@ottermere.example", Password: "x", Address: "192.0.2.1", Device: in.Device})
	require.ErrorIs(t, err, store.ErrSignIn, "it is known for its own account only")
	p.broken = store.ErrUnavailable
	_, err = s.In(ctx, Asked{Email: "mara@ottermere.example", Password: "right", Device: in.Device})
	require.ErrorIs(t, err, store.ErrUnavailable)
}

func TestASignInEndsTheSessionItCameWith(t *testing.T) {
	t.Parallel()
	s, p, _ := service()
	in, err := s.In(context.Background(), Asked{Email: "mara@ottermere.example", Password: "right"})
	require.NoError(t, err)
	next, err := s.In(context.Background(), Asked{Email: "mara@ottermere.example", Password: "right", Session: in.Cookie})
	require.NoError(t, err)
	require.Equal(t, map[string]bool{next.Cookie: true}, p.sessions)
}
