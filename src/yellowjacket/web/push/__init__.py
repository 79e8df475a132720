"""The Push page."""
