"""Long work: recorded, followed, stopped, taken up again; and the worker processes that decode."""
