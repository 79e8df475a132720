"""Pictures that were never taken: one clean frame as it would look at settings, on a body, after a time.

Entry points: ``predicted_mosaic.predicted``, ``sensor_at.Sensor``, ``from_document.sensor_of``.
"""
