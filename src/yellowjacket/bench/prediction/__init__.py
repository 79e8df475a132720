"""Pictures that were never taken: a ladder's clean frame as it would look at any setting its body was measured at.

Entry points: ``clean_frame.Predicting``.
"""
