"""The timeline: everything that led up to something, from all apps that took part, in one order.

``entries`` defines its entries, ``reports`` makes entries of reports, ``twice`` removes what was reported twice,
``clocks`` corrects the clocks of hosts, ``merging`` puts all in order, ``folding`` folds uninteresting ones.
"""
