"""Estimators held against simulated bodies, frames and graders whose numbers are known, one module to a floor of the core.

Entry points: ``row.Row``.
"""
