"""Pages of plans and jobs: plans read in a dialog, uploads, jobs, changes."""
