"""The job's questions: each a frozen record of all it rests on; see :mod:`knollside.core.job.ask`."""
