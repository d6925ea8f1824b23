"""To whom an unassigned issue is handed: ``rules`` that a team writes, and ``owners``, the CODEOWNERS files."""
