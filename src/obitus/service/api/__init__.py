"""What people and commands ask and decide: routes, what they answer with, and the problems they answer instead."""
