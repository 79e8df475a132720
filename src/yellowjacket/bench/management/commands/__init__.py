"""Commands of Django for this application."""
