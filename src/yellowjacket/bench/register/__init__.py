"""Bodies and what is known of them over time; the desk and the search."""
