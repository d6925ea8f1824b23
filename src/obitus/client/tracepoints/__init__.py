"""Tracepoints in this process: the state at a line, captured the next time that it runs. ``asking`` fetches
tracepoints from the service, ``requested`` sets and removes them, ``places`` finds the code, ``monitored`` and
``rewritten`` make a line call back (by what the interpreter offers), ``points`` handles the call. Loaded only where the app allows it.
"""
