"""Patches: even areas that are found, and charts laid out as a grid."""
