from django.urls import path

from nembrit.web.common import charts
from nembrit.web.common.views import backup, pages, phones

app_name = "common"
urlpatterns = [
    path("jobs/<int:job_id>/", pages.job_panel, name="job_panel"),
    path("jobs/<int:job_id>/cancel/", pages.job_cancel, name="job_cancel"),
    path("jobs/<int:job_id>/retry/", pages.job_retry, name="job_retry"),
    path("backup/", backup.backup_page, name="backup"),
    path("backup/restore/", backup.backup_restore, name="backup_restore"),
    path("backup/<str:name>/", backup.backup_fetch, name="backup_fetch"),
    path("backup/<str:name>/remove/", backup.backup_remove, name="backup_remove"),
    path("enter/", phones.enter, name="enter"),
    path("phones/", phones.phones, name="phones"),
    path("phones/code.svg", phones.phones_code, name="phones_code"),
    path("phones/<int:phone_id>/end/", phones.phone_end, name="phone_end"),
    path("style/", pages.style, name="style"),
    path("style/chart.json", charts.sample_chart, name="style_chart"),
    path("about/", pages.about, name="about"),
]
