from django.urls import path

from nembrit.web.archive import views

app_name = "archive"
urlpatterns = [
    path("archive/", views.archive, name="archive"),
    path("archive/export/", views.give, name="give"),
    path("archive/exports/<str:name>/", views.fetch, name="fetch"),
    path("archive/exports/<str:name>/remove/", views.remove, name="remove"),
    path("archive/take/", views.take, name="take"),
]
