"""Signing in, roles, phones and the trail."""
