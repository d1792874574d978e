from django.urls import path
from django.views.generic import RedirectView

from nembrit.web.archive import views

app_name = "archive"
urlpatterns = [
    path("archive/", views.archive, name="archive"),
    path("archive/export/", views.give, name="give"),
    path("archive/exports/<str:name>/", views.fetch, name="fetch"),
    path("archive/exports/<str:name>/remove/", views.remove, name="remove"),
    path("archive/take/", views.take, name="take"),
    # as this page was called before
    path("archive/give/", RedirectView.as_view(pattern_name="archive:archive", permanent=True)),
]
