"""Pictures that were never taken: one clean frame as it would look at settings, on a body, after a time.

Entry points: ``predicted_mosaic.predicted``, ``sensor_at.SensorAt``, ``sensor_at.at_iso``.
"""
