"""Pictures that something else rendered: read, laid on their frames, and what their maker did to them.

Entry points: ``picture.measure_rendered``, ``match.examine``, ``finish.effect_of``.
"""
