"""Eyes: where a person draws the line, how sure that is, and blind sheets on paper.

Entry points: ``psychometrics.Threshold``, ``contact_sheet.layout``.
"""
