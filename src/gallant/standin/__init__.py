"""Simulated devices: a world model, device kinds that live in it, and servers in front of them.

The world knows nothing of Gallant's decisions. It has rules of its own about what a device can take, and punishes what
breaks them: that is what makes it a judge.
"""
