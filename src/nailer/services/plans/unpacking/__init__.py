"""Archives: taken in and unpacked here, unpacked by the server there, and the plans of what they hold."""
