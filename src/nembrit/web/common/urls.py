from django.urls import path

from nembrit.web.common import backup_views, charts, views

app_name = "common"
urlpatterns = [
    path("jobs/<int:job_id>/", views.job_panel, name="job_panel"),
    path("jobs/<int:job_id>/cancel/", views.job_cancel, name="job_cancel"),
    path("jobs/<int:job_id>/retry/", views.job_retry, name="job_retry"),
    path("backup/", backup_views.backup_page, name="backup"),
    path("backup/restore/", backup_views.backup_restore, name="backup_restore"),
    path("backup/<str:name>/", backup_views.backup_fetch, name="backup_fetch"),
    path("backup/<str:name>/remove/", backup_views.backup_remove, name="backup_remove"),
    path("style/", views.style, name="style"),
    path("style/chart.json", charts.sample_chart, name="style_chart"),
    path("about/", views.about, name="about"),
]
