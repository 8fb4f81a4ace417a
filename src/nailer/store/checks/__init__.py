"""What Nailer knows of sites and their hosts: scans, findings, facts."""
