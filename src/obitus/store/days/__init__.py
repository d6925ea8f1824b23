"""Reports, in one SQLite file for each UTC day: the ids of reports, their evidence, logs and runs.

``files`` opens one, ``writing`` makes them part of the writer's commit, ``reading`` reads them, ``logs`` and
``runs`` are their rows, ``texts`` stores repeated texts once.
"""
