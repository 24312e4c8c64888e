"""The demo: the workshop that restores the lighthouse at Skarrow Point. Everything here is made up."""

from fenrik.demo.jobs import DEMO_JOBS, demo_files, demo_job, demo_model

__all__ = ["DEMO_JOBS", "demo_files", "demo_job", "demo_model"]
