"""A profile of round thresholds for tests of how limits are found; what the defaults are is tested on its own."""

from yellowjacket.core.limits.tolerance import profile_from

ROUND = profile_from("Round", {
    "grey_snr": [40, 10, 4], "shadow_snr": [10, 4, 2], "chroma_noise": [2, 5, 10], "colour_separation": [8, 4, 2],
    "detail": [0.9, 0.7, 0.5],
})  # fmt: skip
