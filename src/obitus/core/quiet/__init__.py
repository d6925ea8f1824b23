"""Trouble without an exception: ``finding`` finds what is new or more frequent than usual, ``failing`` makes
failures of collected records."""
