from django.urls import path

from nembrit.web.tunes.views import craft, experiment, report, slip

app_name = "tunes"
urlpatterns = [
    path("", craft.hangar, name="hangar"),
    path("craft/<int:craft_id>/", craft.craft, name="craft"),
    path("craft/<int:craft_id>/flights/", craft.flights_many, name="flights_many"),
    path("craft/<int:craft_id>/next/", craft.next_part, name="next"),
    path("craft/<int:craft_id>/tune/", craft.tune, name="tune"),
    path("craft/<int:craft_id>/tune/new/", craft.tune_new, name="tune_new"),
    path("craft/<int:craft_id>/tune/report/", report.report, name="report"),
    path("craft/<int:craft_id>/tune/on/", craft.tune_on, name="tune_on"),
    path("craft/<int:craft_id>/tune/lock/", craft.tune_lock, name="tune_lock"),
    path("craft/<int:craft_id>/slips/new/", slip.slip_new, name="slip_new"),
    path("craft/<int:craft_id>/slips/waiting/", slip.slip_waiting, name="slip_waiting"),
    path("<flight:flight_id>/repair/", slip.repair, name="repair"),
    path("slips/<int:slip_id>/", slip.slip, name="slip"),
    path("slips/<int:slip_id>/charts/<str:kind>/<str:axis>.json", slip.slip_chart, name="slip_chart"),
    path("slips/<int:slip_id>/decide/", slip.slip_decide, name="slip_decide"),
    path("slips/<int:slip_id>/truth/", slip.slip_truth, name="slip_truth"),
    path("craft/<int:craft_id>/findings.json", craft.findings_file, name="findings_file"),
    path("slips/<int:slip_id>/flights/<int:flight_id>/", slip.slip_answer, name="slip_answer"),
    path("slips/<int:slip_id>/extend/", slip.slip_extend, name="slip_extend"),
    path("slips/<int:slip_id>/card/", slip.slip_card, name="slip_card"),
    path("slips/<int:slip_id>/provoke/", slip.slip_provoke, name="slip_provoke"),
    path("slips/<int:slip_id>/provoke/<int:flight_id>/", slip.slip_provoked, name="slip_provoked"),
    path("craft/<int:craft_id>/questions/", experiment.experiment_list, name="experiments"),
    path("craft/<int:craft_id>/questions/new/", experiment.experiment_new, name="experiment_new"),
    path("questions/<int:experiment_id>/", experiment.experiment, name="experiment"),
    path("questions/<int:experiment_id>/end/", experiment.experiment_end, name="experiment_end"),
    path("questions/<int:experiment_id>/keep/", experiment.experiment_keep, name="experiment_keep"),
    path("questions/<int:experiment_id>/turns/<int:turn_id>/settings.txt", experiment.turn_settings, name="turn_settings"),
    path("questions/<int:experiment_id>/turns/<int:turn_id>/fly/", experiment.turn_fly, name="turn_fly"),
    path("questions/<int:experiment_id>/turns/<int:turn_id>/log/", experiment.turn_log, name="turn_log"),
    path("questions/<int:experiment_id>/turns/<int:turn_id>/rate/", experiment.turn_rate, name="turn_rate"),
    path("questions/<int:experiment_id>/turns/<int:turn_id>/skip/", experiment.turn_skip, name="turn_skip"),
]
