"""Raw files: the one reader, what a frame is, its codes and histograms, a first look; DNG and FITS that are written.

Entry points: ``reader.read_frame``, ``frame.RawFrame``, ``frame.FrameError``, ``first_look.inspect_file``.
"""
