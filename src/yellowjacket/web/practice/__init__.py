"""Practice: short rounds on one's own frames."""
