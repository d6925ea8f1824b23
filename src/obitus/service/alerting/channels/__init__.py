"""Channels: one module each. Any error of one is a DeliveryTrouble, and holds up no other."""
