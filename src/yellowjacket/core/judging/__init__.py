"""Eyes: where a person draws the line, how sure that is, pictures that differ in nothing else, and blind sheets on paper.

Entry points: ``psychometrics.Threshold``, ``contact_sheet.layout``, ``equal_field.equal_field``.
"""
