"""What noise and processing do to a picture: noise as it is seen, texture that drowns, a wedge whose steps merge.

Entry points: ``visual_noise.appearance``, ``texture.finest_detail``, ``step_wedge.wedge_range``,
``wedge_and_model.why_they_differ``.
"""
