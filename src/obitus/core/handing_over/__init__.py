"""Whom an issue is handed to that nobody has: ``rules`` that a team writes, and ``owners``, the files that name who owns what."""
