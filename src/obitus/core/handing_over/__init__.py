"""To whom an issue is handed that nobody has: ``rules`` that a team writes, and ``owners``, the CODEOWNERS files."""
