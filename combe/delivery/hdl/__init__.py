"""Verilog and VHDL: a circuit is built from the stages once, two printers write it."""
