"""Check pages."""
