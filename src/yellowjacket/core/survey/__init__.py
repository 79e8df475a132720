"""A folder of frames without a plan: sorted by body and setting, single frames, ladders and darks found in it."""
