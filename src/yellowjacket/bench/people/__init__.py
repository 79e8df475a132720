"""Accounts, phones, and the trail of decisions."""
