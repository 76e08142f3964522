"""The words of all cautions of the analysis, by their code. Sizes stand in braces."""

WORDS = {
    # Readings.
    "impossible_readings": (
        "taken as missing: {count:reading} of {channel} that cannot be true, such as {example:.3g}"
    ),
    "unanswered_readings": (
        "taken as missing: {count:reading} of {channel} far from all others, such as {example:g} °C. "
        "Check its sensor"
    ),
    "stuck_for_a_while": (
        "{channel} stood still from {start_s:.0f} to {end_s:.0f} s but moved at all other times: taken "
        "as missing there. Check its sensor or the logger"
    ),
    "renewed_rarely": (
        "the temperature has a new value every {every_s:.0f} s only: moments are no more precise than "
        "that"
    ),
    "times_run_backwards": (
        "times run backwards after {at_s:g} s: the samples were sorted, but a clock that was changed in"
        " mid-run makes every duration doubtful"
    ),
    "nothing_recorded": (
        "nothing was recorded for {length_s:.0f} s after {start_s:.0f} s{more}: the clock jumped, the "
        "machine slept, or the logger stopped. What happened in between is unknown"
    ),
    "fell_silent": "{channel} fell silent: no reading under load. Check its sensor",
    "partly_missing": (
        "{channel} is missing in {percent:.0f} % of the load. Check its sensor or the logger"
    ),
    "stuck_while_others_moved": (
        "{channel} stood still at {at_c:.1f} °C while another reading moved by {moved_k:.0f} K: is it "
        "stuck?"
    ),
    "stuck": (
        "{channel} stood still at {at_c:.1f} °C, at rest and under load: it is stuck, or no temperature. "
        "Nothing can be concluded from it"
    ),
    "little_supply_margin": (
        "{setup} under {load} drew up to {highest_w:.1f} W of a supply rated for {rated_w:g} W: a supply "
        "that sags looks like throttling"
    ),
    "never_loaded": (
        "the run ended before its load began: there is no answer under load. Run it again"
    ),
    "reference_noted": (
        "the reference was read {count:time} only: it is taken as constant, with a standard error of "
        "{error_k:.1f} K. Log it along with the temperature"
    ),
    "reference_stated": (
        "the reference was stated, and is taken as constant, with a standard error of {error_k:.1f} K"
    ),
    "constant_readings": (
        "cannot tell how exactly: every reading is {at_c:.1f} °C. The sensor is stuck, or so coarse that "
        "nothing shows how near the part is to its end"
    ),
    "never_moved": (
        "{channel} stood still at {at_c:.1f} °C in the whole log: it is coarse and has settled, or it is "
        "stuck"
    ),
    # What was not logged.
    "no_temperature": "no temperature was logged: steady state, rise and throttling are unknown",
    "no_room": (
        "no room temperature was logged: temperatures are absolute, and runs in rooms of different warmth "
        "cannot be compared.{over_loop}"
    ),
    "no_reading_under_load": "{channel} has no reading under load: nothing can be said about it",
    "no_limit": "no limit temperature is known: throttling by heat cannot be told",
    "reference_bridged": (
        "{channel} was not read for {minutes:.0f} min of the load; straight lines bridge it. Read it more "
        "often"
    ),
    "reference_missing": (
        "the reference is missing in {percent:.0f} % of the log; straight lines bridge it"
    ),
    "power_not_read": "power was not read: the result does not allow for changes of power",
    "power_never_above_zero": (
        "power never reads above zero: it is left out. Check its sensor and its sign"
    ),
    # The steady state.
    "load_in_bursts": (
        "the load came in bursts: the answer is the mean over them, and the hottest moments are above "
        "it"
    ),
    "load_ended": "the load ended at {at_s:.0f} s: readings after that are left out",
    "too_few_readings": (
        "cannot tell: {count:reading} in {length_s:.0f} s of load; at least {least} in {least_s:.0f} s "
        "are needed. Load longer"
    ),
    "no_response": (
        "cannot tell: it reads {at_c:.1f} °C at rest and under load. It is stuck, or not a temperature"
    ),
    "long_boost": (
        "power was higher for the first {length_s:.0f} s: the answer is the steady state at the power "
        "after that"
    ),
    "overshoot": (
        "it peaked at {peak_s:.0f} s and fell by {fell_k:.1f} K since, as with a fan or a governor that"
        " reacts late: only the readings after the peak show where it settles"
    ),
    "still_falling": "cannot tell: it still falls when the load ends. Load longer",
    "hidden_by_steps": (
        "coarse readings with little noise hide about {hidden_k:.1f} K: a finer sensor would narrow the"
        " interval"
    ),
    "below_reference": (
        "it lies {below_k:.1f} K below its reference: is one of the two sensors wrong, or is this the "
        "wrong reference?"
    ),
    "not_settled": (
        "not settled within {band_k:g} K when the load ended after {minutes:.1f} min: {missing_k:.1f} K of "
        "the answer are extrapolated"
    ),
    "slowest_not_seen": (
        "cannot tell: the slowest time constant does not show in {minutes:.1f} min of load. Load longer"
    ),
    "swings": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, as where a fan switches "
        "on and off: the answer is the mean over whole swings. Its hottest moments lie above that; fix the "
        "fan's duty to compare coolers"
    ),
    # The caution about bursts already says that the hottest moments are above the mean.
    "swings_with_load": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, with its load: the "
        "answer is the mean over whole swings; load without pauses to compare coolers"
    ),
    "swung_once": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, as where a fan "
        "switches on and off: if it settles, then between these. Load longer; fix the fan's duty to "
        "compare coolers"
    ),
    "swung_once_with_load": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, with its load: if it"
        " settles, then between these. Load longer; load without pauses to compare coolers"
    ),
    "curve_not_entered": (
        '{run}: the readings do not show the curve "{curve}": at {temp_c:.0f} °C the duty was '
        "{duty_pct:.0f} %, and the curve asks for {wanted_pct:.0f} %. Look whether it was entered, and "
        "what it follows"
    ),
    "several_machines": (
        "these runs come from {machines} machines: where they differ, so do chip, case and room"
    ),
    "setups_lumped": (
        "runs are taken together although these factors differ among them: {factors}. What they do is part "
        "of the scatter. Compare by them as well, or choose one level"
    ),
    "fan_never_started": (
        "{fan} stood still and did not start again at any duty of the sweep: look whether it turns now"
    ),
    # Throttling.
    "limit_below_all_readings": (
        "every reading is above the limit of {limit_c:g} °C, at rest too: it cannot be the limit of "
        "this part, so it is not used to find throttling"
    ),
    "not_the_limit": (
        "it stayed {beyond_k:.0f} K above the limit of {limit_c:g} °C and was not held back by heat: "
        "that is not the limit of this part. Give the temperature at which it cuts its clock"
    ),
    "held_below_limit": (
        "it was held back at {shown_c:.0f} °C, {below_k:.0f} K below the limit of {limit_c:g} °C: give "
        "the temperature at which it cuts its clock"
    ),
    "held_below_its_limit": (
        "heat held it {below_k:.1f} K below the stated limit, on average: its governor gives the clock "
        "back only there"
    ),
    "throttling_from_power": "no clock was logged: throttling is judged from power alone",
    "throttling_cannot_be_told": (
        "cannot tell whether the chip was held back: neither clock, power nor a count of throttling was "
        "logged. Log the clock"
    ),
    "boost_ended": (
        "power stepped down from {from_w:.0f} to {to_w:.0f} W at {at_s:.0f} s and stayed level under the "
        "same load: a boost ended, and a power limit that was not stated held the chip from then on"
    ),
    "boost_ended_unclear": (
        "power stepped down from {from_w:.0f} to {to_w:.0f} W at {at_s:.0f} s and stayed level under the "
        "same load: a boost ended. The chip warmed by only {warmed_k:.1f} K after it, so nothing tells "
        "whether a power limit that was not stated holds it"
    ),
    "boost_or_lighter_load": (
        "power stepped down from {from_w:.0f} to {to_w:.0f} W at {at_s:.0f} s and stayed level: either a "
        "boost ended under a power limit that was not stated, or the load became lighter. Neither clock "
        "nor busy time was logged, so nothing tells which"
    ),
    "power_limit_shows_little": (
        "power was not logged: a power limit shows only where the clock drops suddenly"
    ),
    # The run as a whole.
    "load_paused_in_between": "the load paused, at {moments}: each stretch has its own answer",
    "conditions_changed": (
        "conditions changed during the load, at {moments}: each stretch has its own answer"
    ),
    "reference_drifted": (
        "{channel} drifted by {drift_k:+.1f} K during the load; it is allowed for, but a steadier room "
        "gives a narrower interval"
    ),
    "fan_drifted": (
        "{channel} moved by {drift_rpm:+.0f} rpm ({percent:+.0f} %) during hold: hold began too early, "
        "or its fan curve swings. Soak longer, or fix its duty"
    ),
    "hotter_chip": (
        "{channel} was warmer ({there_c:.0f} °C) than what is judged ({here_c:.0f} °C), and rose further. "
        "To judge it: --channel {channel}"
    ),
    "hotter_chip_not_judged": (
        "in {count} of {all} runs {channel} was warmer than what is judged, and rose further. To judge it, "
        'too, write judge = ["{judged}", "{channel}"] in the study'
    ),
    "work_drifted": (
        "{what} changed by {percent:+.1f} % during hold: the load was not constant. Use a load that keeps "
        "its intensity"
    ),
    "no_temperature_to_compare": "no temperature was logged: setups are compared by {what}",
    "part_not_compared": "{part}: not compared ({why})",
    "no_score_to_compare": "no run has a {asked}: the {what} that was logged is compared",
    "held_by_other_part": (
        "the chip was held back by {words}. The result shows that part as well as the cooler. "
        "Cool it, or lower the power"
    ),
    "other_part_at_limit": (
        "{channel} came to {hottest_c:.1f} °C at {at_s:.0f} s, and its own limit is {limit_c:g} "
        "°C{also}: the result may show that part and not the cooler. Cool it, or lower the power"
    ),
    "other_part_held_back": (
        "{part} was held back by {cause} for {percent:.0f} % of the load: look at its clock and power, too"
    ),
    "hold_began_early": (
        "hold began {short_k:.1f} K {side} the steady value: use the steady value, not the mean or peak"
        " of hold. Soak longer"
    ),
    "log_begins_under_load": (
        "the log begins under load, with {percent:.0f} % of the rise: slow parts may still follow what "
        "came before, which widens the interval. Begin the log at rest"
    ),
    "busy_at_rest": (
        "other programs used {percent:.0f} % of the processor at rest: close them, or the load is not "
        "what it seems"
    ),
    "climb_lacks_channels": (
        "a climb gives the capacity only if room, power and limit temperature are known"
    ),
    "climb_tells_nothing": "no capacity from this climb: {why}",
    # Offsets of probes and clocks.
    "probe_moved": (
        "{channel} moved by {moved_k:+.2f} K against the others in this time: leave them together until"
        " all are at rest"
    ),
    "offset_unknown": "cannot tell the offset: {why}",
    # Capacity.
    "capacity_unknown": "cannot tell: {why}",
    "held_back_early": (
        "a run was held back at {held_w:.0f} W and {held_k:.0f} K, where the other runs predict "
        "{expected_k:.0f} K: was it the same setup, and was it settled?"
    ),
    "far_from_measured": (
        "beyond what was measured, {low_w:.0f} to {high_w:.0f} W: measure closer to it"
    ),
    # Setups against each other.
    "known_repeatability_stands_in": (
        "no setup was run twice: the rig's known repeatability of {spread_k:.2f} is used"
    ),
    "no_repeats": (
        "no setup was run twice: the effect of a repeat or a remount is unknown, so nothing can be told"
        " apart. Run each setup at least twice, better three times"
    ),
    "repeats_identical": (
        "repeats agree to the last digit: were they copied? No interval is given"
    ),
    "spreads_differ": (
        "runs of {setup} scatter more than those of other setups, beyond chance, but one common spread "
        "is used: look at its runs"
    ),
    "read_by_hand": (
        "{count} of {all} runs were read by hand: such a reading is taken to lie within {least_k:.1f} to "
        "{most_k:.1f} K of the steady state (standard deviation); [doubt] by_hand_k in the study states it"
    ),
    "spread_told": (
        "no setup was repeated: remounting is taken to move a run by {spread:.2g} {unit}, as the study says"
    ),
    "spread_rig": (
        "no setup was repeated: remounting is taken to move a run by {spread:.2g} {unit}, as earlier "
        "repeats on this rig did"
    ),
    "spread_usual": (
        "no setup was repeated, and the scatter of this rig is not known. That of usual rigs, "
        "{spread:.2g} {unit} (standard deviation), is assumed, so a verdict is likely and no more. Run "
        "each setup at least twice, or state the scatter in the study: [doubt] remounting_k"
    ),
    "never_remounted": (
        "no setup was mounted twice: the effect of remounting is unknown, so setups on different "
        "mountings cannot be told apart. Remount each at least once"
    ),
    "usual_remounting": (
        "no setup was mounted twice: the usual effect of remounting on a rise, {usual_k:g} K, is "
        "assumed. Remount each at least once"
    ),
    "one_setup": "there is one setup only, so there is nothing to compare it with",
    "runs_without_value": "left out: {count} of {all} runs without a usable value",
    "setups_without_run": "no run is left of: {setups}",
    "runs_without_level": "left out: {count:run} without a value or a level",
    "empty_combinations": (
        "{count} of {all} combinations have no free run ({shown}): effects are means over the others"
    ),
    "effects_add_up": (
        "{count} of {all} combinations have no run that counts ({shown}), and no two others tell an "
        "effect alone: effects are assumed to add up, and interactions cannot be told"
    ),
    "scatter_from_additivity": (
        "no combination was run twice: the scatter is estimated from what additive effects do not "
        "explain"
    ),
    "effects_without_repeats": "no combination was run twice: the interval of an effect is unknown",
    "steps_without_repeats": "no level was run twice: the interval of a step is unknown",
    "not_traded": "left out, without {x_name} or {y_name}: {setups}",
    "rig_without_repeats": "no setup was run twice: repeat one, and remount it each time",
    "rig_repeats_identical": "repeats agree to the last digit: were they copied?",
    "few_degrees_of_freedom": (
        "estimated with {freedom:.0f} degrees of freedom: more repeats would narrow it"
    ),
    "remounting_not_in_it": (
        "no setup was mounted twice: this scatter does not include remounting, so it cannot replace its"
        " effect"
    ),
    "mounts_not_noted": (
        "it is not noted which runs share a mount: the effect of remounting cannot be separated"
    ),
    "trend_needs_runs": "a trend needs four runs of one setup at different times",
    "trend_on_one_mounting": "its runs share mountings, and the effect of another mounting is unknown",
    # A study.
    "left_out": "left out: {run}: {why}",
    "no_fan_law": "{setup}: its cooling over fan speed cannot be told: {why}",
    "no_such_curve": "{setup}: no such curve: {why}",
    "room_is_reference": (
        "rises are over {reference}, not over room air: --room is the temperature there"
    ),
    "one_mounting_of_fan": (
        "a setup was mounted once: its predictions hold for this mounting, and another may settle "
        "elsewhere. Mount it again and run it to know"
    ),
    "curve_beyond": (
        "marked *: beyond the speeds or powers that were measured, where the prediction is weaker"
    ),
    "limited_runs_left_out": "left out: {count:run} at the limit, whose rise is only a lower bound",
    "limited_runs_are_bounds": "{count:run} at the limit count as lower bounds",
    "compared_at_one_power": (
        "runs go through several powers: compared at {level}, the highest at which {how_many} setups "
        "settle below the limit. --loads also shows {others}"
    ),
    "no_drift_to_correct": "no drift of the machine beyond chance: nothing was corrected",
    "drift_corrected": (
        "corrected for a drift of the machine of {over_all_k:+.1f} K over the baseline's repeats "
        "({per_day_k:+.2f} K a day)"
    ),
    "at_limit": (
        "at the temperature limit: {setups}. Temperature cannot show how much warmer a setup would get "
        "without it: compare the power and clock they held"
    ),
    "no_comparable_run": "no comparable run is left of: {setups}",
    "measured_differently": "runs differ in what was measured: {measured}",
    "another_unit": (
        "{count:run} of {setups} cannot be ranked with the rest, as a rise over the room is no "
        "temperature: they are in {unit}, and are compared among themselves"
    ),
    "no_room_anywhere": (
        "no room temperature was logged: the intervals allow for rooms that differ by {room_k:g} K from "
        "day to day (standard deviation; room_k under [doubt] in the study). Log the room"
    ),
    "some_at_limit": (
        "at their limit: {runs}. They count as at least that warm, beside free runs of their setup"
    ),
    "extrapolated": (
        "{count} of {all} runs ended before they settled: {least_k:.1f} to {most_k:.1f} K are "
        "extrapolated, and runs of one setup may err alike. Soak longer"
    ),
    "limit_below_room": (
        "the limit is {limit_c:g} °C, which is below the room: correct it in study.toml, [machine] limit_c"
    ),
    "means_compared": (
        "in {count} of {all} runs the load came and went: their means over it are compared, and no steady "
        "states"
    ),
    "at_equal_mean_power": (
        "mean powers under a load that comes and goes differ from run to run: each mean is that at "
        "{power_w:.0f} W, moved by up to {most_k:.1f} K"
    ),
    "ended_early": "these runs ended early, and count all the same: {runs}",
    "powers_differ": (
        "{count} of {all} setups held more than 5 % more or less power than the baseline: not all of "
        "their difference comes from the cooler"
    ),
    "rooms_allowed_for": (
        "rooms of {low_c:.1f} to {high_c:.1f} °C are allowed for: rises are those in {room_c:.1f} °C. "
        "For each kelvin of the room they change by {effect:+z.2f} K{at_power} ({effect_low:+z.2f} to "
        "{effect_high:+z.2f} K; fans, radiation and leakage together)"
    ),
    "brought_to_room": "converted to a room of {room_c:g} °C in the same way, to within {error_k:.1f} K",
    "brought_with_same_rise": (
        "converted from rooms of {low_c:.1f} to {high_c:.1f} °C to {room_c:g} °C with the same rise: "
        "fan curves and free convection make this wrong by up to about {error_k:.1f} K"
    ),
    "readings_left_out": (
        "{file}: left out: {count:line} without a time, a sensor or a value, or with a second reading of "
        "one moment"
    ),
    "baseline_at_levels": (
        "{baseline} was run at several levels, which are compared as setups: none of them is the baseline. "
        "Name one with --baseline"
    ),
    "traded_at_several_powers": ("these setups drew {low_w:.0f} to {high_w:.0f} W: {how}"),
    "averaged_over": "averaged over {factors}",
    "incomplete_left_out": "left out: {count:run} of combinations that lack a level",
    "usual_remounting_of_capacity": (
        "no setup was run twice: the usual effect of remounting on a rise, {usual_k:g} K, is assumed. "
        "Run each setup at least twice"
    ),
    # What is on disk.
    "run_file_unreadable": "{why}. The samples are shown without it",
    "run_file_missing": "{file} is missing: setup, phases and limits are unknown",
    "samples_missing": "the samples are missing: only the settings of the run are known",
    "still_recording": "still being recorded: shown up to {end_s:.0f} s",
    "ended_without_notice": "{how}",
    "noted_and_recorded": (
        "readings of {channel} were noted by hand and also recorded: the recorded ones are used"
    ),
    "file_unreadable": "{file} cannot be read ({why})",
    "no_time_column": "{file} has no column t_s, the elapsed seconds: left out",
    "load_tells_nothing": '"{load}": no run of it shows where it settles. Load longer',
    "other_sheets": 'the sheet "{sheet}" was read; the others were not: {others}',
    "lines_unreadable": "{file}: left out, as unreadable: {count:line}, the first is line {first}",
    "columns_of_one_name": "{file}: of several columns with one name, the first counts ({channels})",
    "columns_without_name": "{file}: columns that are no channels are left out ({channels})",
    "column_not_numbers": "{file}: what is no number in {channel} is left out",
    "rows_without_time": "{file}: {count:row} without a time: left out",
    "last_line_torn": "the last line of {file} is torn: left out",
    "line_unreadable": "{file}, line {line} cannot be read: left out",
    "line_torn": "{file}, line {line} is torn: left out",
}
