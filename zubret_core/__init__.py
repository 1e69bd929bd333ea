"""The computation of Zubret: from the bytes of a packed game file to sound, and back.

No Django, no HTTP, no screen. Each package imports only those above it in this order:
base, source, codec, layout, audio, container, bank, locate, extract, swap, rebuild, install.
"""
