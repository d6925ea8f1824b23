"""Which failures are one issue: names and messages brought to what stays the same, the fault found, failures compared.

The parts, in the order in which a failure meets them: ``fault`` finds the exception and the frame that count,
``recipe`` makes the exact fingerprint, ``likeness`` compares with issues that share something, ``groups`` decides.
"""
