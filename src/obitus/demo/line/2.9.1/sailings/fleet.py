"""The vessels, as the harbour office keeps them."""

import sqlite3

office = sqlite3.connect(":memory:", check_same_thread=False)
office.execute("CREATE TABLE vessels (name TEXT PRIMARY KEY, places INTEGER, clearance_m REAL)")
office.executemany("INSERT INTO vessels VALUES (?, ?, ?)", [("Tern", 64, 4.2), ("Petrel", 62, 4.2), ("Kittiwake", 62, 4.2)])


def vessel(name):
    return office.execute("SELECT places, clearance_m FROM vessels WHERE name = ?", (name,)).fetchone()
