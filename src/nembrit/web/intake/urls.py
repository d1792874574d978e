from django.urls import path

from nembrit.web.intake import views

app_name = "intake"
urlpatterns = [
    path("inbox/", views.inbox_page, name="inbox"),
    path("craft/<int:craft_id>/logs/attach/", views.attach, name="attach"),
    path("logs/<int:log_id>/meanings/", views.meanings_page, name="meanings"),
    path("logs/<int:log_id>/meanings/fellows/", views.meanings_fellows, name="meanings_fellows"),
    path("logs/<int:log_id>/meanings/export/", views.meanings_export, name="meanings_export"),
    path("logs/<int:log_id>/meanings/import/", views.meanings_import, name="meanings_import"),
    path("logs/<int:log_id>/reread/", views.log_reread, name="log_reread"),
    path("logs/<int:log_id>/upload/remove/", views.upload_remove, name="upload_remove"),
    path("logs/<int:log_id>/move/", views.log_move, name="log_move"),
    path("logs/<int:log_id>/archive/", views.log_archive, name="log_archive"),
    path("logs/<int:log_id>/remove/", views.refused_remove, name="refused_remove"),
    path("import-profiles/", views.profiles, name="profiles"),
]
