"""What Nailer knows of sites and their hosts: readings, findings, facts."""
