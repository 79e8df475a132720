"""Accounts, phones, and the trail of decisions.

Entry points: ``accounts.any_account``, ``trail.note``.
"""
