"""Backups of records while a service writes them, restoring and verifying them. A backup has the main file as it was
at one moment, and of each day's file at least what the main file counted then: records beyond that are deleted at
the restore, as after a kill. So it is the state of that moment, whatever was written meanwhile.
"""
