"""Tracepoints in this process: what people asked at the service to see of a line, the next time that it runs.

``asking`` fetches what is wanted, ``standing`` sets it and takes it away, ``places`` finds the code, ``monitored`` and ``rewritten``
let a line call back (by what the interpreter offers), ``points`` says what happens then. Loaded only where the app allows it.
"""
