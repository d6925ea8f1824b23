"""Copies of the records that a service goes on writing, bringing one back, and looking whether all of it is whole.

A copy is the main file as it was at one moment, and of each day's file at least what the main file counted then: what a day's file holds
beyond that is deleted when it is brought back, as after a kill. So it is the state of that moment, whatever was written meanwhile.
"""
