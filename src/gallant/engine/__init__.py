"""Carries out a plan. It meets devices, disks, clocks and screens through the ports alone; see core/ports.py."""
