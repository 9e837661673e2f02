"""Sentences about the scene, with buttons that mend."""
