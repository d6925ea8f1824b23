"""Failing runs against healthy ones: where one left the good path (``turning``), and what many have in common (``contrast``)."""
