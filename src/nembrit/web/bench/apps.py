from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "nembrit.web.bench"
    label = "bench"

    def ready(self) -> None:
        from nembrit.web.bench import deciding, results, scales

        results.listen()
        scales.listen()
        deciding.listen()
