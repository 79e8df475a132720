"""A jury on paper."""
