"""What worker processes compute with, loaded and called once in the process that they are forked from: the first call of
compiled code takes as long as several frames, and each of them would wait for its own."""

import gc

import numpy as np

from yellowjacket.bench import workers  # noqa: F401 - what workers run, for the most part
from yellowjacket.core.raw.histograms import cell_sums

cell_sums(np.zeros((4, 4), np.uint16)[::2, ::2], 1)
# Shared with all of them as it is: none has to look through it.
gc.freeze()
