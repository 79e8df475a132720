"""Writing frames in open formats: DNG for mosaics of every layout, FITS for images and tables.

Entry points: ``dng.write_dng``, ``fits.image_bytes``, ``fits.table_bytes``.
"""
