"""Sittings given away and taken in: archives, plain folders, tables and documents."""
