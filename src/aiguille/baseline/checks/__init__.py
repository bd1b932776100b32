"""The checks by area. A new module is added to the list in `aiguille.baseline`."""
