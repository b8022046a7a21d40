// Package expr evaluates the expressions of a workflow.
//
//	age(item.dry_since) >= duration("6d") and item.cone in ["6", "9"]
//
// The grammar is that of github.com/expr-lang/expr, whose parser makes the
// tree. The tree is compiled here to closures, because the meaning is ours: a
// missing field is nothing, whole numbers are exact to 64 bits, and every
// operation that makes text or lists is charged for its size before it makes
// it (see docs/decisions/0002-expressions.md).
package expr
