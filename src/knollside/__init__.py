import os

# Window and worker share the cores: a thread that waits must give its core away, not spin on it.
os.environ.setdefault("OMP_WAIT_POLICY", "PASSIVE")
