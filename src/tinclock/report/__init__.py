"""Figures. Everything here draws what `core` computed; matplotlib loads when a figure is asked for."""
