"""Patches: even areas that are found, and charts laid out as a grid.

Entry points: ``uniform.propose_patches``, ``chart_grid.grid_cells``.
"""
