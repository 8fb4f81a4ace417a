"""Sites and reaching them: dialling, trials, questions to a person, sites in and out."""
