"""Plan pages."""
