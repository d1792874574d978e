from django.urls import path
from django.views.generic import RedirectView

from nembrit.web.tunes.views import craft, experiment, report, slip

app_name = "tunes"
urlpatterns = [
    path("", craft.hangar, name="hangar"),
    path("craft/<int:craft_id>/", craft.craft, name="craft"),
    path("craft/<int:craft_id>/flights/", craft.flights_many, name="flights_many"),
    path("craft/<int:craft_id>/start/", craft.first_steps_page, name="first_steps"),
    path("craft/<int:craft_id>/next/", craft.next_part, name="next"),
    path("craft/<int:craft_id>/tune/", craft.tune, name="tune"),
    path("craft/<int:craft_id>/tune/new/", craft.tune_new, name="tune_new"),
    path("craft/<int:craft_id>/tune/report/", report.report, name="report"),
    path("craft/<int:craft_id>/tune/on/", craft.tune_on, name="tune_on"),
    path("craft/<int:craft_id>/tune/lock/", craft.tune_lock, name="tune_lock"),
    path("craft/<int:craft_id>/slips/new/", slip.slip_new, name="slip_new"),
    path("craft/<int:craft_id>/slips/offers/", slip.slip_offers, name="slip_offers"),
    path("craft/<int:craft_id>/slips/waiting/", slip.slip_waiting, name="slip_waiting"),
    path("<flight:flight_id>/repair/", slip.repair, name="repair"),
    path("slips/<int:slip_id>/", slip.slip, name="slip"),
    path("slips/<int:slip_id>/charts/<str:kind>/<str:axis>.json", slip.slip_chart, name="slip_chart"),
    path("slips/<int:slip_id>/decide/", slip.slip_decide, name="slip_decide"),
    path("slips/<int:slip_id>/truth/", slip.slip_truth, name="slip_truth"),
    path("craft/<int:craft_id>/findings.json", craft.findings_file, name="findings_file"),
    path("slips/<int:slip_id>/flights/<int:flight_id>/", slip.slip_answer, name="slip_answer"),
    path("slips/<int:slip_id>/extend/", slip.slip_extend, name="slip_extend"),
    path("slips/<int:slip_id>/look/", slip.slip_look, name="slip_look"),
    path("slips/<int:slip_id>/reopen/", slip.slip_reopen, name="slip_reopen"),
    path("slips/<int:slip_id>/card/", slip.slip_card, name="slip_card"),
    path("slips/<int:slip_id>/provoke/", slip.slip_provoke, name="slip_provoke"),
    path("slips/<int:slip_id>/provoke/<int:flight_id>/", slip.slip_provoked, name="slip_provoked"),
    path("craft/<int:craft_id>/comparisons/", experiment.experiment_list, name="experiments"),
    path("craft/<int:craft_id>/comparisons/new/", experiment.experiment_new, name="experiment_new"),
    path("comparisons/<int:experiment_id>/", experiment.experiment, name="experiment"),
    path("comparisons/<int:experiment_id>/end/", experiment.experiment_end, name="experiment_end"),
    path("comparisons/<int:experiment_id>/keep/", experiment.experiment_keep, name="experiment_keep"),
    path("comparisons/<int:experiment_id>/turns/<int:turn_id>/settings.txt", experiment.turn_settings, name="turn_settings"),
    path("comparisons/<int:experiment_id>/turns/<int:turn_id>/fly/", experiment.turn_fly, name="turn_fly"),
    path("comparisons/<int:experiment_id>/turns/<int:turn_id>/log/", experiment.turn_log, name="turn_log"),
    path("comparisons/<int:experiment_id>/turns/<int:turn_id>/rate/", experiment.turn_rate, name="turn_rate"),
    path("comparisons/<int:experiment_id>/turns/<int:turn_id>/skip/", experiment.turn_skip, name="turn_skip"),
    # as these pages were called before
    path("craft/<int:craft_id>/questions/", RedirectView.as_view(pattern_name="tunes:experiments", permanent=True)),
    path("questions/<int:experiment_id>/", RedirectView.as_view(pattern_name="tunes:experiment", permanent=True)),
]
