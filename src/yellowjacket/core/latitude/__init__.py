"""Exposure latitude: how far a frame may be pushed or pulled, and when raising ISO is no better than pushing."""
