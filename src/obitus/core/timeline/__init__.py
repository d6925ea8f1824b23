"""The timeline: everything that led up to something, from all apps that took part, in one order.

``entries`` says what stands on it, ``reports`` makes entries of reports, ``twice`` finds what was reported twice, ``clocks`` brings clocks of
hosts together, ``merging`` puts all in order, ``folding`` says what is dull.
"""
