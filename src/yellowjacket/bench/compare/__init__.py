"""Bodies and firmwares side by side, and curves that others measured.

Entry points: ``bodies.compare``, ``foreign_curves.known``.
"""
