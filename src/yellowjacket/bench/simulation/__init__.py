"""The simulated camera at work.

Entry points: ``shoot.start_shooting``.
"""
