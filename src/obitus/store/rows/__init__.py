"""Types of rows that queries of the store return, by subject. Its fields are the columns of the statement, in their order.

``Reader.all``, ``first`` and ``only`` are given the type, and refuse a statement whose columns are others. Times end in ``_ms``
(Unix, milliseconds), hours and days are counted from 1970.
"""
