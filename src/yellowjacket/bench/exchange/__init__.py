"""Sittings given away and taken in: archives, plain folders, tables and documents.

Entry points: ``sitting_archive.write``, ``sitting_archive.read``, ``readings.readings_csv``.
"""
