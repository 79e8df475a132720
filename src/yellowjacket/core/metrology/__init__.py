"""Measured values: an estimate with its 95 % interval (``estimate``), what is measured (``measurands``), robust statistics and
intervals of shares and rates.

Entry points: ``estimate.Quantity``, ``notes.Note``, ``measurands.Measurand``.
"""
