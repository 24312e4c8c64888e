"""The web application: routers, tables, artefact store, job queue, events."""
