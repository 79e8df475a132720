"""The records of the bench (bodies, sittings, frames, readings, grades, limits) and what is done with them."""
