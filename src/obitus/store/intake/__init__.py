"""Storing reports: for each report its issue, counts, state and evidence. Runs on the writer. Reports go to the file
of their day, decisions and counts to the main file; both are one commit.
"""
