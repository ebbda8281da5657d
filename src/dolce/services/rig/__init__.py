"""The Rig stop: microphones, interface, processor, lines, levels and live sound."""
