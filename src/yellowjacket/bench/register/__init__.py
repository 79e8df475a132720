"""Bodies and what is known of them over time; the desk and the search.

Entry points: ``bodies.body_values_from``, ``desk``, ``search.find``.
"""
