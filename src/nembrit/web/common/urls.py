from django.urls import path

from nembrit.web.common import charts, views

app_name = "common"
urlpatterns = [
    path("jobs/<int:job_id>/", views.job_panel, name="job_panel"),
    path("jobs/<int:job_id>/cancel/", views.job_cancel, name="job_cancel"),
    path("jobs/<int:job_id>/retry/", views.job_retry, name="job_retry"),
    path("style/", views.style, name="style"),
    path("style/chart.json", charts.sample_chart, name="style_chart"),
    path("about/", views.about, name="about"),
]
