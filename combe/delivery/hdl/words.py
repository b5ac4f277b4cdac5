"""Words Verilog and VHDL keep to themselves."""

from __future__ import annotations

from combe.errors import FormatError

_VERILOG = """
always and assign automatic begin buf bufif0 bufif1 case casex casez cell cmos config deassign default defparam
design disable edge else end endcase endconfig endfunction endgenerate endmodule endprimitive endspecify endtable
endtask event for force forever fork function generate genvar highz0 highz1 if ifnone incdir include initial inout
input instance integer join large liblist library localparam macromodule medium module nand negedge nmos nor
noshowcancelled not notif0 notif1 or output parameter pmos posedge primitive pull0 pull1 pulldown pullup
pulsestyle_onevent pulsestyle_ondetect rcmos real realtime reg release repeat rnmos rpmos rtran rtranif0 rtranif1
scalared showcancelled signed small specify specparam strong0 strong1 supply0 supply1 table task time tran tranif0
tranif1 tri tri0 tri1 triand trior trireg unsigned use vectored wait wand weak0 weak1 while wire wor xnor xor bit
byte logic int shortint longint class interface package program property sequence assert assume cover final import
export extends virtual static do break continue return enum struct union typedef unique priority void string null
this super new chandle const constraint context cross dist expect extern first_match foreach forkjoin iff inside
intersect local matches modport packed protected pure rand randc ref shortreal solve tagged throughout timeprecision
timeunit type var with within
"""
_VHDL = """
abs access after alias all and architecture array assert attribute begin block body buffer bus case component
configuration constant disconnect downto else elsif end entity exit file for function generate generic group guarded
if impure in inertial inout is label library linkage literal loop map mod nand new next nor not null of on open or
others out package port postponed procedure process pure range record register reject rem report return rol ror
select severity shared signal sla sll sra srl subtype then to transport type unaffected units until use variable
wait when while with xnor xor assume assume_guarantee context cover default fairness force parameter property
protected release restrict restrict_guarantee sequence strong vmode vprop vunit work std ieee std_logic
std_logic_vector signed unsigned integer natural boolean bit bit_vector string time flag rtl resize positive character
severity_level note warning error failure real delay_length false true std_ulogic std_ulogic_vector x01 x01z ux01 ux01z
to_bit to_bitvector to_stdulogic to_stdlogicvector to_stdulogicvector to_x01 to_x01z to_ux01 is_x rising_edge
falling_edge resolved to_integer to_signed to_unsigned shift_left shift_right rotate_left rotate_right std_match to_01
numeric_std std_logic_1164 textio line text side width input output read write readline writeline endfile file_open
file_close minimum maximum now
"""
VERILOG_WORDS = frozenset(_VERILOG.split())
"""Of Verilog-2001, and of its successor, whose tools read the same files."""
VHDL_WORDS = frozenset(_VHDL.split())
"""Of VHDL-93 and VHDL-2008, and names every file here relies on."""


def checked_hdl_name(name: str) -> None:
    """Raise ``FormatError`` for a word that is reserved in either language, in any mix of capitals."""
    word = name.lower()
    for words, language in ((VERILOG_WORDS, "Verilog"), (VHDL_WORDS, "VHDL")):
        if word in words:
            raise FormatError(f"{name!r} is a reserved word in {language}", "name", f"{name}_filter would do")


def hdl_identifier(name: str) -> str:
    """A name made by itself that no language reserves."""
    return f"{name}_filter" if name.lower() in VERILOG_WORDS | VHDL_WORDS else name
