"""What README and docs promise, and the check behind each promise: runs the checks, prints claim, check and result.

``make proof`` ends with it. A claim is quoted, so that a sentence that changes loses its check and says so; a test holds
quotes and checks together (tests/test_claims.py).
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).resolve().parent.parent


class Claim(NamedTuple):
    """Words of a document, and the tests (module.Class.test, without their prefixes) that hold them."""

    document: str
    words: str
    checks: tuple[str, ...]


CLAIMS = (
    Claim("README.md", "Each figure of the ledger is the worst point over the whole continuous band", (
        "response.Extremes.no_dense_grid_finds_a_worse_point", "response.WorstPoints.no_lobe_is_overlooked_beside_steep_edges",
        "response.WorstPoints.sections_with_poles_next_to_the_circle_hide_nothing")),
    Claim("README.md", "48 of them", ("claims.Counts.methods",)),
    Claim("README.md", "Twelve structures", ("claims.Counts.structures",)),
    Claim("README.md", "in six architectures", ("claims.Counts.architectures",)),
    Claim("README.md", "found by designing beside it", ("contenders.Prices.a_price_is_what_designs_beside_it_cost",)),
    Claim("README.md", "which single limit to relax, and how far", (
        "contenders.Nearest.each_relaxation_is_kept_by_the_filter_it_names",
        "small_truths.Nearest.a_relaxation_is_enough_and_hardly_more")),
    Claim("README.md", "margins *proved* over whole bands", (
        "certified.Certified.a_proved_margin_holds_in_fifty_digits",
        "certified.Certified.a_margin_that_is_too_good_is_never_proved")),
    Claim("README.md", "**C99** for words up to 62 bits", ("delivery.GeneratedC.corner_formats",
        "delivery.WithoutTools.words_too_wide_for_c_are_refused")),
    Claim("README.md", "simulated with whichever simulators are there, every output compared", (
        "circuits.Verilog.random_taps_in_every_architecture", "circuits.Verilog.a_wrong_circuit_is_caught")),
    Claim("README.md", "Each verb exits 0 when every limit is kept, 1 when one is missed or a proof failed, 2 on bad input", (
        "cli.Chain.a_missed_limit_is_status_one", "cli.Refusals.damaged_files_are_refused_not_crashed_on")),
    Claim("README.md", "the largest value any\n  input can cause at every node", (
        "networks.Bounds.the_worst_input_reaches_the_bound_and_one_bit_less_overflows",
        "small_truths.Norms.bounds_are_the_worst_input_and_the_worst_errors_together")),
    Claim("README.md", "limit cycles proved away or shown", ("certified.Cycles.every_cycle_told_runs_in_a_strangers_hands",
        "certified.Cycles.a_rotation_rounded_toward_zero_has_none")),
    Claim("docs/methods.md", "the gain at the cut-offs is −6.02 dB", (
        "ways.LevelsAndLength.levels_are_kept_the_gain_is_halved_at_the_cutoffs_and_the_transition_is_the_narrowest",)),
    Claim("docs/methods.md", "the classics (−3.01 dB of the peak), windows and maximally flat (−6.02 dB)", (
        "classics.Cutoffs.the_gain_there_is_half_the_power", "cutoffs.Halved.windows_of_enough_length_are_exact")),
    Claim("docs/methods.md", "Remez exchange in barycentric form; the fewest taps", ("shortest.Shortest.random_briefs",
        "equiripple.Optimality.no_linear_program_on_a_fine_grid_does_better")),
    Claim("docs/methods.md", "Transitions are capped 0.5 dB above the highest\n  passband limit", (
        "equiripple.Transitions.the_cap_is_where_the_documents_say",)),
    Claim("docs/methods.md", "never ends with more multiplies than that", (
        "ways.ProductsOfElliptics.direct_optimization_never_ends_worse",)),
    Claim("docs/methods.md", "least squared error over the whole axis of all filters within the peak limits", (
        "fir_methods.LeastSquares.under_peak_limits_it_has_less_energy_than_equiripple_and_obeys_its_optimality_conditions",)),
    Claim("docs/methods.md", "No frequency moves by more than twice the sum dropped", (
        "recursive.Reductions.no_order_moves_the_response_further_than_twice_the_values_dropped",)),
    Claim("docs/methods.md", "errors come out as 1 to 1/10", ("fir_methods.Others.weights_trade_one_band_for_another",)),
    Claim("docs/methods.md", "Passbands of 1e-4 of the sample rate, 160 dB and ripples of 0.0005 dB are kept together", (
        "classics.Requirements.numbers_that_hold",)),
    Claim("docs/arithmetic.md", "a second\nimplementation that agrees in every bit", (
        "networks.BitTrue.a_strangers_implementation_agrees_in_every_bit",
        "sections.BitTrue.a_strangers_implementation_agrees_in_every_bit")),
    Claim("docs/arithmetic.md", "the preprocessor takes the one that fits, with identical results", (
        "target.OnTarget.random_realizations_are_identical_with_and_without_intrinsics",)),
    Claim("docs/arithmetic.md", "no input makes it overflow", ("networks.Bounds.no_random_input_leaves_the_bounds",)),
    Claim("docs/arithmetic.md", "A coupled pair rounded toward zero has none", (
        "certified.Cycles.a_rotation_rounded_toward_zero_has_none",)),
    Claim("docs/arithmetic.md", "For up to 9 free taps a mixed-integer program follows", (
        "certified.Finding.short_filters_have_proved_integers",)),
    Claim("docs/arithmetic.md", "which integers are taken never", (
        "check.Checked.a_slow_machine_makes_the_same_filter_and_the_same_integers",)),
    Claim("docs/commands.md", "what the filters give one after another", (
        "path.Whole.the_way_is_its_filters_one_after_another_bit_for_bit", "path.Whole.its_code_is_proved_in_c_and_as_a_circuit")),
    Claim("docs/commands.md", "as the project exports it", ("check.Checked.what_is_delivered_of_a_project_is_what_it_exports",)),
    Claim("docs/commands.md", "the same whatever the locale", (
        "check.Checked.the_same_bytes_whatever_the_locale_the_time_zone_and_the_place", "path.Verbs.everything_that_was_exported_is_checked")),
    Claim("docs/files.md", "two people's changes to two filters merge as", ("path.File.two_peoples_changes_to_two_filters_merge",)),
    Claim("docs/files.md", "it is opened, and written as version 2", (
        "path.File.files_of_version_1_are_opened_and_written_as_version_2",)),
    Claim("docs/manual.md", "figures and densities of all", (
        "long_signals.LongBench.a_long_bench_says_what_a_short_one_says",
        "long_signals.LongBench.only_a_stretch_is_kept_and_figures_are_of_everything")),
    Claim("docs/manual.md", "Each has its row in the ledger, with its margin", (
        "asks.InTheWindow.limits_are_typed_and_have_rows_in_the_ledger", "asks.Verbs.a_bench_list_and_check_say_what_is_missed")),
    Claim("docs/circuits.md", "they are one circuit", ("circuits.Vhdl.the_other_language_agrees",
        "circuits.Counted.both_languages_synthesize_to_the_same_multipliers")),
    Claim("docs/circuits.md", "at least 65,536 samples go through it", (
        "circuits.Written.a_long_stream_is_compared_and_every_limit_measured_on_it",)),
    Claim("docs/circuits.md", "the test bench checks both", ("circuits.Verilog.a_wrong_circuit_is_caught",)),
    Claim("docs/circuits.md", "so that the cells are those of a circuit written", (
        "circuits.Patterns.synthesis_drops_whatever_only_repeats_a_sign",)),
    Claim("docs/circuits.md", "the demo's 113 taps take 200 to 250 lines", (
        "circuits.Patterns.a_hundred_taps_are_read_on_a_few_pages",)),
    Claim("docs/circuits.md", "are placed at 49 MHz on an iCE40 UP5K", (
        "engine.Circuits.four_sections_are_placed_at_48_mhz", "engine.Schedule.sections_hardly_wait")),
    Claim("docs/circuits.md", "registers within 1.5 %", ("circuits.Counted.registers_are_those_synthesis_keeps",)),
    Claim("docs/circuits.md", "outputs kept until they are taken", (
        "circuits.Verilog.the_wrapper_keeps_every_sample_while_the_other_side_waits",)),
    Claim("docs/commands.md", "keep every limit. The shortest filter fills its limits", (
        "trade.LeastThatHolds.plain_rounding_by_anyone_keeps_every_limit",)),
    Claim("docs/commands.md", "that no other cell keeps every limit with as few taps and as few bits", (
        "trade.Map.nothing_beats_the_frontier", "trade.Map.each_cell_is_what_designing_and_rounding_give")),
    Claim("docs/rates.md", "the true worst over all stretches that land there", (
        "rate_designs.Asked.what_lands_on_a_passband_is_limited_and_nothing_else",)),
    Claim("docs/rates.md", "and the single stage where it may win, are designed", (
        "rate_designs.Designed.the_search_loses_to_no_plan", "rate_designs.Designed.every_plan_keeps_every_limit")),
    Claim("docs/rates.md", "tries widths upward until all stages together keep every\nlimit", (
        "rate_integers.InIntegers.fewest_bits_keep_every_limit",)),
    Claim("docs/rates.md", "Noise is predicted with each rounding's path through the stages behind it", (
        "rate_integers.InIntegers.noise_is_what_was_predicted",)),
    Claim("docs/rates.md", "no zero is multiplied", ("rates.Code.no_multiply_is_wasted_on_zeros",)),
    Claim("docs/rates.md", "says for how many `y` must have room", (
        "rates.Code.room_for_outputs_is_told_and_new_taps_are_taken",)),
    Claim("docs/rates.md", "Sums in a row of more than 64 bits, up to 126, count in pairs of words", (
        "wide.Wide.six_sums_over_512_samples_of_24_bits_are_exact", "wide.Wide.sums_in_a_row_are_the_same_both_ways")),
    Claim("docs/rates.md", "where the next has room for it, so that\nnothing is lost", (
        "rates.Circuits.circuits_give_the_same_with_stalls_and_resets",
        "rate_streams.Streams.no_output_is_lost_however_both_sides_wait")),
    Claim("docs/rates.md", "a row takes samples as quickly as its busiest stage", (
        "rate_streams.Clocks.a_row_is_as_quick_as_its_busiest_stage",)),
    Claim("docs/rates.md", "samples that come evenly, none of which then waits", (
        "rate_streams.Clocks.samples_that_come_evenly_at_the_clocks_told_are_taken_at_once",)),
    Claim("docs/rates.md", "multipliers take a sample every clock, and N taps up by L on ⌈N/L⌉ give an output every clock", (
        "polyphase.Polyphase.every_clock_takes_a_sample_or_gives_one",
        "polyphase.Polyphase.any_number_of_multipliers_gives_the_same_with_stalls_and_resets")),
    Claim("docs/rates.md", "as few are\ntaken as keep up at `--clock`", (
        "polyphase.Polyphase.the_fewest_multipliers_keep_up_and_one_less_does_not",)),
    Claim("docs/rates.md", "Taps that are always zero are left out", (
        "zero_taps.InC.outputs_are_the_same_however_blocks_are_cut", "zero_taps.InC.a_core_is_spared_them")),
    Claim("docs/rates.md", "Taps that are always zero take no clock", ("zero_taps.AsCircuits.a_clock_is_a_tap_that_is_not_zero",)),
    Claim("docs/rates.md", "then the busiest one more until they do", ("rate_rows.Rows.as_many_are_taken_as_keep_up",)),
    Claim("docs/rates.md", "3 to 8 and they cost a twentieth less", (
        "rate_designs.Designed.a_third_band_stage_is_taken_where_it_costs_less",)),
    Claim("docs/circuits.md", "through the lanes, so that a sample meets its mirror at the multiplier", (
        "pairs.Paired.outputs_and_clocks_are_those_told",)),
    Claim("docs/circuits.md", "`combe capture` holds these bytes, kept in a file, against the model word by word", (
        "capture.Heard.words_of_any_width_are_read_as_they_are_sent", "capture.OnTheCommandLine.a_file_and_a_simulation")),
    Claim("docs/security.md", "told before it is read", ("keeping.Targets.too_much_is_refused_before_it_is_read",)),
    Claim("docs/security.md", "is answered or refused within ten", (
        "fuzz.Damaged.damaged_files_and_strange_words_are_answered_in_order",)),
)  # fmt: skip


SHOWN = 3000
"""Characters of what was said last by a check that fails."""


def tests_of(claim: Claim) -> list[str]:
    """The names unittest knows the checks by."""
    found = []
    for check in claim.checks:
        module, case, name = check.split(".")
        found.append(f"tests.test_{module}.{case}.test_{name}")
    return found


def held(claim: Claim) -> tuple[bool, str]:
    """Whether its words stand where they are said to, and its checks pass."""
    if claim.words not in (ROOT / claim.document).read_text(encoding="utf-8"):
        return False, "not said there"
    done = subprocess.run(
        [sys.executable, "tests/run.py", *tests_of(claim)], cwd=ROOT, capture_output=True, text=True, check=False
    )
    last = re.findall(r"\d+ passed, \d+ failed[^\n]*", done.stdout)
    said = last[-1] if last else "its checks did not run"
    return (
        done.returncode == 0,
        said if done.returncode == 0 else f"{said}\n{done.stdout[-SHOWN:]}{done.stderr[-SHOWN:]}",
    )


def main() -> int:
    """The table."""
    with ThreadPoolExecutor(max(1, os.cpu_count() or 1)) as pool:
        results = list(pool.map(held, CLAIMS))
    for claim, (holds, said) in zip(CLAIMS, results):
        words = " ".join(claim.words.split())
        checks = "; ".join(check.split(".")[-1].replace("_", " ") for check in claim.checks)
        print(f"{'ok  ' if holds else 'FAIL'} {claim.document}: {words}\n       {checks}: {said}")
    failed = sum(1 for holds, _ in results if not holds)
    print(f"\n{len(CLAIMS)} claims, {failed} not held")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
