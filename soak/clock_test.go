package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestATimeThatWasLeftOutIsFound(t *testing.T) {
	wrong, err := gaps([]string{"due 10+1 for ash", "due 10+1 for elm", "due 10+2 for ash", "due 10+3 for ash", "due 10+3 for elm"})
	require.NoError(t, err)
	require.Equal(t, []string{`after time 1 came 3 for "elm"`}, wrong)
	wrong, err = gaps([]string{"due 7+4", "due 7+5"})
	require.NoError(t, err)
	require.Empty(t, wrong)
	_, err = gaps([]string{"another key"})
	require.Error(t, err)
}
