"""Rules: how much they open, what they are worth where they stand, and what is written about them."""
