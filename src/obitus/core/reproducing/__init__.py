"""Reproducing a failure: the captured request, and the captured call, as something that can be run."""
