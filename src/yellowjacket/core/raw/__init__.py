"""Raw files: the one reader, what a frame is, its codes and histograms, a first look; DNG and FITS that are written."""
