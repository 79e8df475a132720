"""Limits: what is accepted (``tolerance``), where a ladder stops being so (``crossing``, ``iso_limits``), at which size
(``output_size``), and what to set for a picture (``exposure_advice``).

Entry points: ``tolerance.Profile``, ``iso_limits.measured_limits``, ``output_size.use_noise_factor``.
"""
