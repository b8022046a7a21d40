package triggers

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/form"
)

func TestWhatATriggersSettingsMean(t *testing.T) {
	t.Parallel()
	hook, ok := Find(Webhook)
	require.True(t, ok)
	s, errs := hook.Start(map[string]any{"key": "item.call_id"})
	require.Empty(t, errs)
	require.Equal(t, "item.call_id", s.Key.Source)
	require.Equal(t, 7*24*time.Hour, s.KeyLasts, "unless said otherwise")
	require.True(t, s.Proof.ByHeader(), "unless said otherwise")
	s, errs = hook.Start(map[string]any{"for": "3h", "verify": "none"})
	require.Empty(t, errs)
	require.Nil(t, s.Key)
	require.Equal(t, 3*time.Hour, s.KeyLasts)
	require.True(t, s.Proof.Open())
	for field, settings := range map[string]map[string]any{"key": {"key": "item."}, "for": {"for": "soon"}, "verify": {"verify": "trust"}, "kye": {"kye": "item.x"}} {
		s, errs := hook.Start(settings)
		require.Len(t, errs, 1, field)
		var placed *form.Error
		require.ErrorAs(t, errs[0], &placed)
		require.Equal(t, field, placed.Field)
		require.False(t, s.Proof.Open(), "what cannot be read lets nobody in")
	}
	require.Equal(t, "Whenever its address is called", hook.Sentence(map[string]any{"key": "item."}))
	require.Equal(t, "Whenever its address is called, once for each call id", hook.Sentence(map[string]any{"key": "item.call_id"}))
	hand, _ := Find(Manual)
	require.Equal(t, "When somebody starts it", hand.Sentence(nil))
	require.True(t, hand.Alone && !hand.Called && hook.Called && !hook.Alone)
	_, ok = Find("mial")
	require.False(t, ok)
	require.Equal(t, []string{Webhook, Form, Schedule, After, Manual}, Types())
	require.Len(t, Kinds(), 5)
}
