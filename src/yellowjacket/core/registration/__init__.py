"""Where one picture lies on another.

Entry points: ``similarity.found``, ``similarity.Similarity``.
"""
