"""Channels: one module each. Whatever is wrong with one ends as DeliveryTrouble, and holds up no other."""
