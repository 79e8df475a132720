"""The pages: one package per step of the work, the stave in one place."""
