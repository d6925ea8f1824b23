"""Failing runs compared with healthy ones: where one differs first (``turning``), and what many have in common (``contrast``)."""
