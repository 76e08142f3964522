"""The words of all cautions of the analysis, by their code. Sizes stand in braces."""

WORDS = {
    # Readings.
    "impossible_readings": (
        "{count} readings of {channel} are impossible, such as {example:.3g}: taken as missing"
    ),
    "unanswered_readings": (
        "{count} readings of {channel} are none, such as {example:g} °C amid others far from it: taken as "
        "missing. Check its sensor"
    ),
    "stuck_for_a_while": (
        "{channel} stood still from {start_s:.0f} to {end_s:.0f} s and moved all the time otherwise: taken "
        "as missing there. Check its sensor or the logger"
    ),
    "renewed_rarely": (
        "the temperature is renewed every {every_s:.0f} s only: moments are no surer than that"
    ),
    "times_run_backwards": (
        "times run backwards after {at_s:g} s: the samples were put in order, but a clock that was changed "
        "in mid-run makes every duration doubtful"
    ),
    "nothing_recorded": (
        "nothing was recorded for {length_s:.0f} s after {start_s:.0f} s{more}: the clock jumped, the "
        "machine slept, or the logger stopped. What happened there is unknown"
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
    "never_moved": (
        "{channel} stood still at {at_c:.1f} °C in the whole log: it is coarse and has settled, or it is "
        "stuck"
    ),
    # What was not logged.
    "no_temperature": (
        "no temperature was logged: steady state, rise and throttling cannot be concluded"
    ),
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
    "power_not_read": "power was not read: its wander could not be allowed for",
    "power_never_above_zero": (
        "power never reads above zero: it is left out. Check its sensor and its sign"
    ),
    # The steady state.
    "load_in_bursts": (
        "the load came in bursts: the answer is the mean over them; the hottest moments lie above it"
    ),
    "load_ended": "the load ended at {at_s:.0f} s: what was logged afterwards is left out",
    "too_few_readings": (
        "cannot tell: {count} readings in {length_s:.0f} s of load; at least {least} in {least_s:.0f} s "
        "are needed. Load longer"
    ),
    "no_response": (
        "cannot tell: it reads {at_c:.1f} °C at rest and under load. It is stuck, or no temperature"
    ),
    "long_boost": (
        "power was higher for the first {length_s:.0f} s: the answer is where it settles at what followed"
    ),
    "overshoot": (
        "it peaked at {peak_s:.0f} s and fell by {fell_k:.1f} K since, as where a fan or a governor is "
        "late: only what follows the peak tells where it settles"
    ),
    "still_falling": "cannot tell: it still falls when the load ends. Load longer",
    "hidden_by_steps": (
        "coarse readings with little noise hide about {hidden_k:.1f} K: a finer sensor would say more"
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
    # That the hottest moments lie above the mean is said with the bursts.
    "swings_with_load": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, with its load: the "
        "answer is the mean over whole swings; load without pauses to compare coolers"
    ),
    "swung_once": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, as where a fan switches "
        "on and off: it settles between these, if it does. Load longer; fix the fan's duty to compare "
        "coolers"
    ),
    "swung_once_with_load": (
        "it swings between {low:.1f} and {high:.1f} {unit} every {period_s:.0f} s, with its load: it "
        "settles between these, if it does. Load longer; load without pauses to compare coolers"
    ),
    # Throttling.
    "limit_below_all_readings": (
        "every reading is above the limit of {limit_c:g} °C, at rest too: it cannot be the limit of this "
        "part, and being held back by heat is not concluded from it"
    ),
    "not_the_limit": (
        "it stayed {beyond_k:.0f} K above the limit of {limit_c:g} °C and was not held back by heat: that "
        "is not the limit of this part. Tell the one at which it cuts its clock"
    ),
    "held_below_limit": (
        "it was held back at {shown_c:.0f} °C, {below_k:.0f} K below the limit of {limit_c:g} °C: tell the "
        "limit at which it cuts its clock"
    ),
    "throttling_from_power": "no clock was logged: being held back is told from power alone",
    "throttling_from_temperature": (
        "neither clock nor power was logged: sitting at the limit is taken as being held back"
    ),
    "power_limit_shows_little": (
        "power was not logged: a power limit shows only where the clock drops at once"
    ),
    # The run as a whole.
    "load_paused_in_between": (
        "the load paused in its midst, at {moments}: each stretch is answered by itself"
    ),
    "conditions_changed": (
        "conditions changed during the load, at {moments}: each stretch is answered by itself"
    ),
    "reference_drifted": (
        "{channel} drifted by {drift_k:+.1f} K during the load; it is allowed for, but a steadier room "
        "gives a surer answer"
    ),
    "fan_drifted": (
        "{channel} moved by {drift_rpm:+.0f} rpm ({percent:+.0f} %) during hold: hold began too early, or "
        "its curve hunts. Soak longer, or fix its duty"
    ),
    "work_drifted": (
        "{what} changed by {percent:+.1f} % during hold: the load was not constant. Use a load that keeps "
        "its intensity"
    ),
    "other_part_at_limit": (
        "{channel} came to {hottest_c:.1f} °C at {at_s:.0f} s, its own limit is {limit_c:g} °C{also}: what "
        "is measured may be that part and not the cooler. Cool it, or lower the power"
    ),
    "other_part_held_back": (
        "{part} was held back by {cause} for {percent:.0f} % of the load: look at its clock and power, too"
    ),
    "hold_began_early": (
        "hold began {short_k:.1f} K {side} the steady value: its mean and its peak say less than the "
        "steady value does. Soak longer"
    ),
    "log_begins_under_load": (
        "the log begins under load, with {percent:.0f} % of the rise: what warms up slowly may still "
        "follow what came before, which widens the interval. Begin the log at rest"
    ),
    "busy_at_rest": (
        "other programs used {percent:.0f} % of the processor while it was to rest: close them, or the "
        "load is not what it seems"
    ),
    "climb_lacks_channels": (
        "a climb tells the capacity only with room, power and limit temperature known"
    ),
    "climb_tells_nothing": "no capacity from this climb: {why}",
    # Probes and clocks laid together.
    "probe_moved": (
        "{channel} moved by {moved_k:+.2f} K against the others meanwhile: let them lie together until all "
        "are at rest"
    ),
    "offset_unknown": "the offset cannot be told: {why}",
    # Capacity.
    "capacity_unknown": "cannot tell: {why}",
    "held_back_early": (
        "a run was held back at {held_w:.0f} W and {held_k:.0f} K, where the others let expect "
        "{expected_k:.0f} K: was it the same setup, and was it settled?"
    ),
    "far_from_measured": (
        "far from the measured {low_w:.0f} to {high_w:.0f} W: measure nearer to it"
    ),
    # Setups against each other.
    "known_repeatability_stands_in": (
        "no setup was run twice: the rig's known repeatability of {spread_k:.2f} stands in"
    ),
    "no_repeats": (
        "no setup was run twice: how much a repeat or a remount moves the result is unknown, so nothing "
        "can be told apart. Run each setup at least twice, better three times"
    ),
    "repeats_identical": (
        "repeats agree to the last digit: were they copied? No interval is given"
    ),
    "spreads_differ": (
        "runs of {setup} scatter more than those of other setups, beyond chance; one common spread is "
        "assumed: look at its runs"
    ),
    "never_remounted": (
        "no setup was mounted twice: what remounting moves is unknown, so setups on different mountings "
        "cannot be told apart. Remount each at least once"
    ),
    "usual_remounting": (
        "no setup was mounted twice: that remounting moves a rise by {usual_k:g} K, as usual, is taken for "
        "granted. Remount each at least once"
    ),
    "one_setup": "there is one setup only: nothing to compare it with",
    "runs_without_value": "{count} of {all} runs have no usable value: left out",
    "setups_without_run": "no run left of: {setups}",
    "runs_without_level": "{count} runs without a value or a level are left out",
    "empty_combinations": (
        "{count} of {all} combinations have no run that counts ({shown}): effects are taken to add up, and "
        "whether they depend on each other cannot be told"
    ),
    "scatter_from_additivity": (
        "no combination was run twice: the scatter is what effects that add up leave over"
    ),
    "effects_without_repeats": (
        "no combination was run twice: how sure an effect is cannot be told"
    ),
    "steps_without_repeats": "no level was run twice: how sure a step is cannot be told",
    "not_traded": "without {x_name} or {y_name}, and so left out: {setups}",
    "rig_without_repeats": "no setup was run twice: repeat one, remounted each time",
    "rig_repeats_identical": "repeats agree to the last digit: were they copied?",
    "few_degrees_of_freedom": (
        "found from {freedom:.0f} degrees of freedom: more repeats would narrow it"
    ),
    "remounting_not_in_it": (
        "no setup was mounted twice: what remounting adds is not in it, so it does not stand in for it"
    ),
    "mounts_not_noted": (
        "which runs share a mount is not noted: remounting cannot be told from the rest"
    ),
    "trend_needs_runs": "a trend needs three runs of one setup at different times",
    "trend_on_one_mounting": (
        "its runs share mountings, and what another mounting moves is not known"
    ),
    # A study.
    "left_out": "left out: {run}: {why}",
    "limited_runs_left_out": (
        "{count} runs at the limit are left out: their rise says no more than that"
    ),
    "compared_at_one_power": (
        "runs go through several powers: compared at {level}, the highest at which {how_many} setups "
        "settle below the limit. --loads also tells {others}"
    ),
    "no_drift_to_correct": "no drift of the machine beyond chance: nothing was corrected",
    "drift_corrected": (
        "corrected for a drift of the machine of {over_all_k:+.1f} K over the baseline's repeats "
        "({per_day_k:+.2f} K a day)"
    ),
    "at_limit": (
        "at the temperature limit: {setups}. Their temperature cannot show how much warmer they would get: "
        "compare the power and clock they held"
    ),
    "no_comparable_run": "no run that could be compared is left of: {setups}",
    "measured_differently": "runs differ in what was measured: {measured}",
    "some_without_room": "some runs have no room temperature: their values are not rises",
    "powers_differ": (
        "{count} of {all} setups held more than 5 % more or less power than the baseline: their difference "
        "is not the cooler's alone"
    ),
    "rooms_allowed_for": (
        "rooms of {low_c:.1f} to {high_c:.1f} °C are allowed for: rises are those in {room_c:.1f} °C. For "
        "each kelvin of the room they change by {effect:+.2f} K{at_power} ({effect_low:+.2f} to "
        "{effect_high:+.2f} K; fans, radiation and leakage together)"
    ),
    "brought_to_room": (
        "brought to a room of {room_c:g} °C in the same way, right to {error_k:.1f} K"
    ),
    "brought_with_same_rise": (
        "brought from rooms of {low_c:.1f} to {high_c:.1f} °C to {room_c:g} °C with the same rise: fans on "
        "curves and free convection make this wrong by up to about {error_k:.1f} K"
    ),
    "traded_at_several_powers": (
        "these setups drew {low_w:.0f} to {high_w:.0f} W: compare those of one power, --where FACTOR=LEVEL"
    ),
    "averaged_over": "averaged over {factors}",
    "incomplete_left_out": "{count} runs of combinations that lack a level are left out",
    "usual_remounting_of_capacity": (
        "no setup was run twice: that remounting moves a rise by {usual_k:g} K, as usual, is taken for "
        "granted. Run each setup at least twice"
    ),
    # What is on disk.
    "run_file_unreadable": "{why}. The samples are shown without it",
    "run_file_missing": "{file} is missing: setup, phases and limits are unknown",
    "samples_missing": "the samples are missing: only what was set up is known",
    "still_recording": "still being recorded: shown as far as it goes, {end_s:.0f} s",
    "ended_without_notice": "{how}",
    "noted_and_recorded": (
        "readings of {channel} were noted by hand, and it was recorded too: the recorded ones are used"
    ),
    "file_unreadable": "{file} cannot be read ({why})",
    "no_time_column": "{file} has no column t_s, the elapsed seconds: left out",
    "last_line_torn": "the last line of {file} is torn: left out",
    "line_unreadable": "{file}, line {line} cannot be read: left out",
    "line_torn": "{file}, line {line} is torn: left out",
}
