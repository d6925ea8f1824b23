"""Reproducing a failure: the captured request and the captured call as runnable code."""
