"""`salt-anvil speed`: how fast, how soon, how much memory; and the tab that measures it."""
