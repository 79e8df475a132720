"""Looking and judging: development, lanes, grades, pairs and blind rounds.

Entry points: ``grades.grade_rung``, ``blind_rounds.begin``, ``blind_results.result_of``,
``blind_pictures.shown_of``.
"""
