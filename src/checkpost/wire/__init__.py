"""HTTP: requests and answers, credentials, masking of secrets, the journal of rows and their removal."""
