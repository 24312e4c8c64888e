"""Who may do what, from where: hosts and origins, headers, accounts and sessions."""
