"""Look pages."""
