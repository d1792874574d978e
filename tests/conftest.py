"""What tests of every folder share: the workshop's file laid out as the server does it."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

# a busy machine is no fault of what is tested
settings.register_profile("patient", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("patient")

OTHER_PAGES = (
    "profiles", "backup", "track", "slip form", "card", "cards", "about", "missing", "style", "give", "new craft", "paste",
    "lay over", "names", "configuration", "edit", "attach", "gains",
    "pack", "compose", "questions", "sessions", "archive", "two groups", "report",
    "simulator", "inbox", "rule of a return", "obstacles", "gains of a plane", "surfaces", "flight of a plane", "line of sight",
    "preflight", "simulator, scales unknown", "craft edit", "sensors", "vibration", "meanings", "log",
)  # fmt: skip
# left to `run.py check --full`, so that a whole run stays below ten minutes on two processors
LONG = (
    "test_door.py::test_connections_that_say_nothing",
    "test_server.py::test_serving_an_unfinished_demo_empties_nothing",
    "test_server.py::test_a_restore_ends_an_unfinished_demo",
    "test_server.py::test_an_interrupted_demo_is_begun_again",
    "test_server.py::test_every_process_ends_with_the_server[chromium-2]",
    "test_server.py::test_killed_processes_are_replaced",
    "test_journey.py::test_missing_meaning_is_said_and_mended",
    "test_from_a_log_to_a_finding_a_repair_and_what_its_flights_say[chromium-phone]",
    "bench/test_bench.py::TestSensors::test_a_companion_log",
    "bench/test_bench.py::TestMechanicsFirst::test_flights_from_before_the_fault",
    "test_every_plane_comes_home[False-faults0-surfaces1]",
    "test_false_alarms_of_the_primary_verdict_stay_below",
    "TestVerify::test_equal_flights_seldom_fail",
    "test_what_is_flown_next_lies_in_what_was_predicted[gains]",
    "test_each_gap_of_a_log_says_which_question_it_costs[<lambda>-told5",
    "test_each_gap_of_a_log_says_which_question_it_costs[<lambda>-told6",
    "test_two_speeds_tell_trim_from_horizon[faults1-horizon]",
    "test_automatic_gains_become_slips[tops1",
    "test_automatic_gains_become_slips[tops3",
    "test_every_plane_comes_home[True-faults1-surfaces0]",
    "test_every_plane_comes_home[True-faults1-surfaces2]",
    "test_it_logs_as_often_as_asked[200.0]",
    *(f"in_both_themes_and_fit_a_phone[chromium-{name}]" for name in OTHER_PAGES),
    "test_log_desk.py::test_from_any_table_to_a_flight_by_mouse",
    "test_wrong_input.py::test_no_address_and_no_form_breaks_a_page",
    "TestWindowAndManoeuvres::test_manoeuvres_are_changed_added",
    "test_analysis.py::test_a_missing_channel_costs_just_what_rests_on_it",
    "test_causes.py::test_a_planted_fault_is_the_first_cause",
    "test_a_sound_craft_asks_for_nothing[12]",
    "test_a_sound_craft_asks_for_nothing[13]",
    "test_the_law_of_speed_is_found_whatever_its_exponent[1000.0",
    "noise/test_bench.py::test_noise_without_lines_gives_no_law",
    "noise/test_bench.py::test_motor_speed_is_estimated_where_it_is_not_recorded",
    "test_from_bad_to_good.py::test_five_flights",
    "TestResidual::test_notches_that_follow_the_motors_are_told",
    "test_what_is_flown_next_lies_in_what_was_predicted[filters]",
    "test_filters_prints_what_a_chain_costs_and_leaves[shown.json",
    "test_odd_logs_keep_the_truth_within_their_intervals[gently",
    "test_a_response_that_cannot_be_shown_still_speaks_for_or_against_p[0.1-0.2",
    "test_a_response_that_cannot_be_shown_still_speaks_for_or_against_p[0.7-0.16",
    "TestMechanicsFirst::test_the_flight_whose_finding_led_to_a_repair",
    "TestSensors::test_a_second_board_and_a_swap",
    "test_the_page_of_a_flight_names_motor_or_axis[fault1]",
    "test_the_command_line_finds_what_the_pages_find[0.0]",
    "test_a_flight_that_is_worse_than_usual_or_whose_spikes_moved",
    "test_what_a_log_lacks_is_said_with_what_to_fly[missing1",
    "test_more_flights_and_logs_ask_no_more_questions[/]",
    "test_pages.py::test_the_simulator_flies_from_the_page",
    "TestMeanings::test_the_lines_before_the_table_become_a_configuration",
    "TestInbox::test_archives_are_opened_and_the_same_content_is_known",
    "test_more_flights_and_logs_ask_no_more_questions[/inbox/]",
    "test_choosing.py::test_a_chain_is_tried_and_gains_by_slider[chromium-desk]",
    "test_numbers_are_as_they_were[evidence]",  # these are asked by `benchmarks.planted_changes`, too
    "test_numbers_are_as_they_were[speeds]",
    "test_numbers_are_as_they_were[bumps and spikes]",
    "TestInbox::test_a_log_goes_from_the_inbox_to_a_new_flight",
    "test_the_page_of_a_flight_names_motor_or_axis[fault0]",
    "test_numbers_are_as_they_were[proposals]",
    "test_numbers_are_as_they_were[benches]",
    "test_numbers_are_as_they_were[more tables]",
    "test_numbers_are_as_they_were[tables]",
    "test_two_flights_of_a_card_are_laid_over_each_other",
    "test_a_blind_question_from_asking_to_the_first_rating",
    "test_filters_prints_what_a_chain_costs_and_leaves[None",
    "test_analysis.py::test_only_the_named_roles_are_read",
    "test_numbers_are_as_they_were[faint faults]",
    "test_numbers_are_as_they_were[analysis, bearing and spikes]",
    "test_numbers_are_as_they_were[analysis, loose and ringing]",
    "test_numbers_are_as_they_were[loops of loose and ringing]",
    "test_a_flight_with_a_fault_waits_for_an_answer",
    "test_an_undone_slip_is_titled_so_and_its_settings_count_again",
    "test_a_log_that_is_moved_while_it_is_analysed_keeps_its_place",
    "test_a_new_version_is_computed_anew_and_said",
    "test_a_repair_is_set_against_the_flights_before_the_fault_appeared",
    "test_where_a_log_belongs_is_looked_for_outside_the_transaction",
    "test_trying_a_failed_import_again_needs_no_file",
    "test_reading_again_needs_the_kept_file",
    "test_an_axis_that_could_not_be_told_says_what_to_fly",
    "test_several_files_at_once_and_one_of_them_wrong",
    "test_numbers_are_as_they_were[simulate]",
    "test_numbers_are_as_they_were[step responses]",
    "test_a_long_flight_is_slowed_and_tells_the_same",
    "TestMeanings::test_a_column_is_corrected_without_a_new_upload",
    "test_the_loop_closes_on_a_repair",
    "test_a_trial_goes_on_by_declaration",
    "test_two_tabs_on_the_meanings_of_a_log",
    "TestWindowAndManoeuvres::test_the_window_is_set_refused_and_found_again",
    "TestRestore::test_what_is_kept_in_memory_is_dropped",
    "TestMechanicsFirst::test_a_sound_flight_asks_for_no_repair",
    "test_analysis.py::test_without_raw_gyro_the_filtered_one_is_judged",
    "test_tables.py::test_an_invented_dialect_is_understood",
    "test_readers.py::test_every_number_is_the_one_that_pandas_reads",
    "test_named_alike_columns_follow_a_correction[giro",
    "test_the_command_line_finds_what_the_pages_find[1.0]",
    "test_what_a_log_lacks_is_said_with_what_to_fly[missing2",
    "test_more_flights_and_logs_ask_no_more_questions[/craft/{craft}/]",
    "TestInbox::test_a_second_recorder_is_matched_by_content",
    "test_numbers_are_as_they_were[loops of sound]",
    "test_numbers_are_as_they_were[analysis, propeller and axis]",
    "test_numbers_are_as_they_were[analysis, sound]",
    "test_numbers_are_as_they_were[manoeuvres]",
    "test_numbers_are_as_they_were[doubts]",
    "test_numbers_are_as_they_were[plane flights]",
    "test_numbers_are_as_they_were[wing desk]",
    "test_numbers_are_as_they_were[wing rules]",
    "test_wrong_use_of_the_benches_says_what_is_wrong[words0",
    "test_filters_prints_what_a_chain_costs_and_leaves[config.json-True]",
    "test_odd_logs_keep_the_truth_within_their_intervals[1 kHz",
    "test_what_was_planted_is_told_from_legs_and_a_box[5-faults0",
    "test_what_was_planted_is_told_from_legs_and_a_box[5-faults2",
    "test_wind_and_weaving_come_out_as_they_were_set[single-wind2",
    "test_wind_and_weaving_come_out_as_they_were_set[light single-wind1",
    "test_wind_and_weaving_come_out_as_they_were_set[glider-wind4",
    "test_creep_and_trims_come_out_as_they_were_set[light single-wind3",
    "test_every_plane_comes_home[False-faults0-surfaces0]",
    "test_a_stored_result_comes_back_as_it_was[2.5-loop]",
    "test_the_flown_chain_gives_the_logged_filtered_gyro",
    "test_what_was_felt_is_set_against_the_log",
    "test_what_was_planted_is_told_from_legs_and_a_box[5-faults1",
    "test_what_was_planted_is_told_from_legs_and_a_box[5-faults3",
    "test_axisloop.py::test_results_are_kept_and_come_back",
    "comes_in_whole[polish]",
    "comes_in_whole[blanks]",
    "test_what_is_not_logged_is_made_up_for_where_that_can_be[missing1",
    "test_what_is_not_logged_is_made_up_for_where_that_can_be[missing2",
    "test_where_no_line_tells_the_motors_speed_the_rest_is_still_judged[faults1",
    "test_every_plane_comes_home[False-faults0-surfaces2]",
    "test_numbers_are_as_they_were[broken logs]",
    "test_numbers_are_as_they_were[single signs]",
    "test_numbers_are_as_they_were[wing sums]",
    "test_numbers_over_the_flights_mark_changes",
    "TestRestore::test_what_was_acknowledged_lies_in_the_kept_copy",
    "test_named_alike_columns_follow_a_correction[salida",
    "test_named_alike_columns_follow_a_correction[acelerador-battery_voltage",
    "test_needs_follow_what_was_flown",
    "test_journey.py::test_own_log_from_drop_to_evidence",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if any(name in item.nodeid for name in LONG):
            item.add_marker(pytest.mark.long)


@pytest.fixture(scope="session")
def django_db_keepdb() -> bool:
    """The file is new in every run; it is laid out before Django makes its tables in it."""
    from django.conf import settings

    from nembrit.web.common.database import lay_out

    lay_out(Path(settings.DATABASES["default"]["TEST"]["NAME"]))
    return True
