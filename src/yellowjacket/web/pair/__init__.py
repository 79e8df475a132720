"""Pairs: two cells of the wall against each other, and verdicts on them."""
