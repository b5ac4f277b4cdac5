"""Two banks of coefficients: replaced taps take over together, with the sample they are to take over with, in both languages."""

from __future__ import annotations

import random
import shutil
import unittest

from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.errors import FormatError
from combe.filters import Fir
from combe.proof.hdl import prove_hdl
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.rounding.realize import Choices, realize
from combe.values import replace
from tests.benches import from_verilog, from_vhdl
from tests.support import IS_CAMPAIGN, fewer_vectors, some
from tests.test_cli import InFolder, call

setUpModule = fewer_vectors
ENTRY, RESULT = Format(True, 9, 8), Format(True, 10, 8)
KINDS = (
    ("parallel", 0, 1, (1, 1)), ("parallel", 0, 0, (1, 1)), ("folded", 0, 1, (1, 1)), ("folded", 0, 0, (1, 1)),
    ("transposed", 0, 1, (1, 1)), ("serial", 0, 1, (1, 1)), ("semi-parallel", 3, 1, (1, 1)), ("semi-parallel", 2, 1, (1, 1)),
    ("semi-parallel", 2, 1, (1, 2)), ("semi-parallel", 3, 1, (1, 4)), ("semi-parallel", 2, 1, (3, 1)),
    ("serial", 0, 1, (1, 3)), ("serial", 0, 1, (4, 1)), ("serial", 0, 1, (3, 2)), ("semi-parallel", 2, 1, (2, 3)),
)  # fmt: skip
"""Architecture, multipliers, pipeline, and the rate: up and down."""
Rate = tuple[int, int]


def made(source: random.Random, rate: Rate, is_symmetric: bool) -> tuple[Realization, list[tuple[int, ...]]]:
    """A sum of taps with room for every set of taps, and four sets."""
    count = source.randint(5, 13)
    sets = []
    for _ in range(4):
        half = [source.randint(-120, 127) for _ in range(count)]
        sets.append(tuple(half[: (count + 1) // 2] + half[: count // 2][::-1]) if is_symmetric else tuple(half))
    up, down = rate
    stage = TapSum((127,) * count, Format(True, 8, 7), Format(True, 40, 15), "direct", up=up, down=down)
    widest = needed_accumulator(stage, ENTRY)
    stage = replace(stage, coefficients=sets[0], accumulator=Format(True, widest.bits + 1, 15))
    return Realization(
        "banks", 1.0, "direct", ENTRY, RESULT, (stage, Requantize(stage.accumulator, RESULT, "floor", "saturate"))
    ), sets


def outputs(taps: list[tuple[int, ...]], samples: list[int], up: int, down: int, is_transposed: bool) -> list[int]:
    """What must come out where sample n meets the set ``taps[n]``: of a sum an output takes the set of the newest sample; of partial
    sums each product has the set of its own sample. By the definition, in Python's integers."""
    found = []
    for m in range(-(-len(samples) * up // down)):
        at = m * down
        total = 0
        for i in range(len(taps[0])):
            if (at - i) % up == 0 and at - i >= 0:
                k = (at - i) // up
                total += taps[k if is_transposed else at // up][i] * samples[k]
        found.append(max(min(total >> 7, RESULT.most), RESULT.least))
    return found


class Script:
    """Samples with gaps, sets that are written meanwhile, swaps at, before and after samples."""

    def __init__(self, source: random.Random, sets: list[tuple[int, ...]]) -> None:
        self.samples: list[int] = []
        self.taps: list[tuple[int, ...]] = []
        self.steps: list[tuple[str, int, int]] = []
        current = sets[0]
        for number, following in enumerate([*sets[1:], None]):
            for _ in range(source.randint(2, 9)):
                self._play(source, current)
            if following is None:
                break
            self.steps.append(("wait", 16, 0))  # an output that was under way at the last swap is made
            for k, value in enumerate(following):
                self.steps.append(("load", k, value))
                if source.random() < 0.3:
                    self._play(source, current)
            way = ("alone", "with", "alone")[number]
            if way == "alone":
                self.steps.append(("swap", 0, 0))
                self.steps.append(("wait", source.randint(0, 3), 0))
                self._play(source, following)
            else:
                self._play(source, following, "swap_play")
            current = following

    def _play(self, source: random.Random, taps: tuple[int, ...], word: str = "play") -> None:
        value = source.randint(ENTRY.least, ENTRY.most)
        self.samples.append(value)
        self.taps.append(taps)
        self.steps.append((word, value, 0))
        if source.random() < 0.3:
            self.steps.append(("wait", source.randint(1, 4), 0))


class Played(unittest.TestCase):
    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_verilog(self) -> None:
        source = random.Random(8)
        for kind in some(KINDS * 4, len(KINDS)):
            self.check(source, "verilog", *kind)

    @unittest.skipUnless(shutil.which("ghdl"), "ghdl is not on this machine")
    def test_vhdl(self) -> None:
        source = random.Random(9)
        for kind in some(KINDS, 4):
            self.check(source, "vhdl", *kind)

    def check(
        self, source: random.Random, language: str, architecture: str, lanes: int, pipeline: int, rate: Rate
    ) -> None:
        realization, sets = made(source, rate, architecture == "folded")
        choices = HardwareChoices(
            architecture, multipliers=lanes, pipeline=pipeline, reloadable=True, double_buffer=True
        )
        package = hdl_package(realization, language, "banks", choices=choices)
        script = Script(source, sets)
        wanted = outputs(script.taps, script.samples, *rate, architecture == "transposed")
        run = verilog if language == "verilog" else vhdl
        count = len(sets[0])
        found = run(package, script.steps, (count - 1).bit_length(), architecture == "folded", count)
        wrong = [k for k, (one, other) in enumerate(zip(found, wanted)) if one != other]
        case = (language, architecture, lanes, pipeline, rate, len(found), len(wanted), wrong[:5])
        self.assertTrue(len(found) == len(wanted) and not wrong, case)

    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_until_a_swap_it_is_the_filter_it_was_made_as(self) -> None:
        for architecture, lanes, _, rate in some(KINDS, 1):
            realization, _ = made(random.Random(3), rate, architecture == "folded")
            choices = HardwareChoices(
                architecture, multipliers=lanes, reloadable=True, double_buffer=True, axi_stream=rate == (1, 1)
            )
            package = hdl_package(realization, "verilog", "banks", choices=choices)
            proof = prove_hdl(package, realization, simulators=() if IS_CAMPAIGN else ("iverilog",))
            self.assertTrue(proof.holds, (architecture, proof.sentence()))

    def test_what_it_does_not_go_with(self) -> None:
        plain = realize(Fir((0.25, 0.5, 0.25)), 1.0, Choices(8))
        with self.assertRaises(FormatError) as caught:
            hdl_package(plain, "verilog", "banks", choices=HardwareChoices(double_buffer=True))
        self.assertIn("replaceable coefficients", caught.exception.sentence())


def verilog(
    package: Package, steps: list[tuple[str, int, int]], address_bits: int, is_folded: bool, count: int
) -> list[int]:
    rows = "\n".join(f"    {word}({a}, {b});" for word, a, b in kept(steps, is_folded, count))
    text = f"""module bench;
  reg clk = 0, rst = 1, v = 0, w = 0, s = 0; reg [{address_bits - 1}:0] a = 0; reg signed [7:0] d = 0; reg signed [8:0] x = 0;
  wire r, o; wire signed [9:0] y;
  banks dut (.clk(clk), .rst(rst), .in_valid(v), .in_ready(r), .in_data(x), .out_valid(o), .out_data(y),
    .coefficient_write(w), .coefficient_address(a), .coefficient_data(d), .coefficient_swap(s));
  always #5 clk = ~clk;
  always @(posedge clk) if (o && !rst) $display("%0d", y);
  task load(input integer k, input integer value); begin w = 1; a = k; d = value; @(negedge clk); w = 0; end endtask
  task swap(input integer p, input integer q); begin s = 1; @(negedge clk); s = 0; end endtask
  task wait(input integer p, input integer q); begin repeat (p) @(negedge clk); end endtask
  task play(input integer value, input integer q); begin v = 1; x = value; #1; while (!r) begin @(negedge clk); #1; end @(negedge clk); v = 0; end endtask
  task swap_play(input integer value, input integer q); begin
    v = 1; x = value; #1; while (!r) begin @(negedge clk); #1; end s = 1; @(negedge clk); v = 0; s = 0; end endtask
  initial begin
    repeat (3) @(negedge clk); rst = 0;
{rows}
    repeat (200) @(negedge clk);
    $finish;
  end
endmodule
""".replace("task wait(", "task pause(").replace("    wait(", "    pause(")
    return from_verilog(package, text)


def vhdl(
    package: Package, steps: list[tuple[str, int, int]], address_bits: int, is_folded: bool, count: int
) -> list[int]:
    rows = "\n".join(f"    {word}({a}, {b});" for word, a, b in kept(steps, is_folded, count))
    text = f"""library ieee; use ieee.std_logic_1164.all; use ieee.numeric_std.all;
entity bench is end entity;
architecture played of bench is
  signal clk, v, w, s : std_logic := '0'; signal rst : std_logic := '1'; signal r, o : std_logic; signal is_over : boolean := false;
  signal a : std_logic_vector({address_bits - 1} downto 0) := (others => '0'); signal d : std_logic_vector(7 downto 0) := (others => '0');
  signal x : std_logic_vector(8 downto 0) := (others => '0'); signal y : std_logic_vector(9 downto 0);
begin
  dut : entity work.banks port map (clk => clk, rst => rst, in_valid => v, in_ready => r, in_data => x, out_valid => o, out_data => y,
    coefficient_write => w, coefficient_address => a, coefficient_data => d, coefficient_swap => s);
  clk <= not clk after 5 ns when not is_over else '0';
  process (clk) begin
    if rising_edge(clk) and o = '1' and rst = '0' then
      report "out " & integer'image(to_integer(signed(y)));
    end if;
  end process;
  process
    procedure step is begin wait until falling_edge(clk); end procedure;
    procedure load(k, value : integer) is begin
      w <= '1'; a <= std_logic_vector(to_unsigned(k, {address_bits})); d <= std_logic_vector(to_signed(value, 8)); step; w <= '0';
    end procedure;
    procedure swap(p, q : integer) is begin s <= '1'; step; s <= '0'; end procedure;
    procedure pause(p, q : integer) is begin for k in 1 to p loop step; end loop; end procedure;
    procedure offer(value : integer; with_swap : boolean) is begin
      v <= '1'; x <= std_logic_vector(to_signed(value, 9)); wait for 1 ns;
      while r /= '1' loop step; wait for 1 ns; end loop;
      if with_swap then s <= '1'; end if;
      step; v <= '0'; s <= '0';
    end procedure;
    procedure play(value, q : integer) is begin offer(value, false); end procedure;
    procedure swap_play(value, q : integer) is begin offer(value, true); end procedure;
  begin
    for k in 1 to 3 loop step; end loop; rst <= '0';
{rows}
    for k in 1 to 200 loop step; end loop;
    is_over <= true; wait;
  end process;
end architecture;
""".replace("    wait(", "    pause(")
    return from_vhdl(package, text)


def kept(steps: list[tuple[str, int, int]], is_folded: bool, count: int) -> list[tuple[str, int, int]]:
    """Of symmetric taps only the first half is written: pairs share a coefficient."""
    return [step for step in steps if not (is_folded and step[0] == "load" and step[1] >= (count + 1) // 2)]


class CommandLine(InFolder):
    def test_from_the_command_line(self) -> None:
        call("realize", self.put("taps.txt", "0.25\n0.5\n0.25\n"), "--out", self.folder / "r.json")
        words = (
            "deliver",
            self.folder / "r.json",
            "--language",
            "verilog",
            "--to",
            self.folder / "v",
            "--name",
            "smooth",
        )
        self.assertEqual(call(*words, "--reloadable", "--double-buffer")[0], 0)
        self.assertIn("coefficient_swap", (self.folder / "v" / "smooth.v").read_text())
        self.assertIn("coefficient_swap", (self.folder / "v" / "smooth.md").read_text())
        self.assertEqual(call(*words, "--double-buffer")[0], 2)


if __name__ == "__main__":
    unittest.main()
