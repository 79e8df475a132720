"""Rendering for the eye: colours filled in, developed with named switches, written as pictures."""
