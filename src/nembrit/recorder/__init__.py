"""The recorder: a process of its own that writes down what telemetry sources send. It knows core and files, nothing else."""
