"""How much is on a yard: many heaps at once, with totals, by material and against an earlier survey."""
