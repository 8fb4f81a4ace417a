"""The side there by SFTP (version 3): meeting the server, requests sent together, and the side itself."""
