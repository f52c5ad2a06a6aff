"""Redfish (DSP0266): the tree of resources, what is read from it, and the orders that it takes."""
