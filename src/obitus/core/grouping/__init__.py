"""Which failures are one issue: names and messages are normalized, the fault is found, failures are compared. The
parts, in the order in which they are used: ``fault`` finds the exception and the frame that count,
``recipe`` makes the exact fingerprint, ``likeness`` compares with issues that share something, ``groups`` decides.
"""
