package engine

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"math"
	"reflect"

	"youngtrellis/internal/core/item"
)

// sameFields tells whether two items share their fields.
func sameFields(a, b map[string]any) bool {
	return reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer()
}

// seal is the end of a list or group: its members, and a hash of what they were.
type seal struct {
	hash    uint64
	members []item.Address
	ends    []int // of a whole list: where each of its groups ends
}

func (s *seal) add(it *item.Item) {
	h := fnv.New64a()
	_, _ = h.Write([]byte(it.Address))
	s.hash = s.hash*1099511628211 + h.Sum64() + hash(it.Fields)
	s.members = append(s.members, it.Address)
}

// hash is the same for equal values, whatever the order of an object's fields.
func hash(v any) uint64 {
	switch v := v.(type) {
	case map[string]any:
		sum := uint64(3)
		for k, e := range v {
			sum += (hash(k) ^ hash(e)*31) * 1099511628211
		}
		return sum
	case []any:
		sum := uint64(5)
		for _, e := range v {
			sum = sum*1099511628211 + hash(e)
		}
		return sum
	case string:
		h := uint64(14695981039346656037)
		for i := range len(v) {
			h = (h ^ uint64(v[i])) * 1099511628211
		}
		return h
	case int64:
		return uint64(v)*0x9e3779b97f4a7c15 + 7
	case float64:
		return math.Float64bits(v)*0x9e3779b97f4a7c15 + 11
	case bool:
		if v {
			return 13
		}
		return 17
	}
	return 19
}

// sum is the hash as an entry keeps it.
func (s *seal) sum() []byte {
	return binary.BigEndian.AppendUint64(binary.AppendUvarint(nil, uint64(len(s.members))), s.hash)
}

// encode writes the members, each as what differs from the one before it.
func (s *seal) encode() []byte {
	b := binary.AppendUvarint(nil, uint64(len(s.members)))
	var before item.Address
	for _, a := range s.members {
		same := 0
		for same < len(a) && same < len(before) && a[same] == before[same] {
			same++
		}
		b = binary.AppendUvarint(b, uint64(same))
		b = appendText(b, a[same:])
		before = a
	}
	b = binary.AppendUvarint(b, uint64(len(s.ends)))
	for _, n := range s.ends {
		b = binary.AppendUvarint(b, uint64(n))
	}
	// Results are JSON.
	return []byte(`"` + base64.StdEncoding.EncodeToString(b) + `"`)
}

// readSeal reads the members of a list and where its groups end.
func readSeal(result []byte) (*seal, error) {
	if len(result) < 2 {
		return nil, errTorn
	}
	b, err := base64.StdEncoding.DecodeString(string(result[1 : len(result)-1]))
	if err != nil {
		return nil, err
	}
	p := &pieces{b: b}
	out := &seal{}
	var before string
	for range p.number() {
		same := p.number()
		if same > uint64(len(before)) {
			return nil, errTorn
		}
		if before = before[:same] + p.text(); p.err != nil {
			return nil, p.err
		}
		out.members = append(out.members, item.Address(before))
	}
	for range p.number() {
		out.ends = append(out.ends, int(p.number()))
	}
	return out, p.err
}

// sealed makes the end of a list durable, or compares it with what stands: a
// replay that meets other members is a fault of ours, and stops the run before
// it does harm. It tells whether the list is closed.
func (b *base) sealed(ctx context.Context, k Key, stands *Entry, s *seal) (bool, error) {
	sum, err := b.digest(ctx, s.sum())
	if err != nil {
		return false, err
	}
	if stands != nil {
		if string(stands.InputHash) != string(sum) {
			return false, fmt.Errorf("the list of %s is another than the one that was closed before (%s, pass %d, %d members now): this is a fault of the service, and nothing further is done", b.step.Name, k.Address, k.Pass, len(s.members))
		}
		return true, nil
	}
	if !b.room.live || b.Sampled {
		return b.Sampled, nil
	}
	now := b.now()
	e := &Entry{Key: k, Outcome: Closed, InputHash: sum, Started: now, Ended: now, Result: s.encode()}
	stood, err := b.Journal.Append(ctx, e)
	if err != nil {
		return false, err
	}
	if string(stood.InputHash) != string(sum) {
		return false, fmt.Errorf("two lists of %s have the same name (%s%s, pass %d): this is a fault of the service, and nothing further is done", b.step.Name, k.Address, k.Rounds, k.Pass)
	}
	return true, nil
}

// standing finds the ends of these groups in the journal.
func (b *base) standing(ctx context.Context, part int, addresses ...item.Address) (map[item.Address]*Entry, error) {
	out := map[item.Address]*Entry{}
	var entries []*Entry
	err := b.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		entries, err = b.Journal.Entries(ctx, b.room.pass.Number, b.step.Number, b.rounds, addresses)
		return err
	})
	for _, e := range entries {
		if e.Part == part {
			out[e.Address] = e
		}
	}
	return out, err
}
