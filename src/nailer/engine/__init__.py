"""What takes time: jobs, carried out by asyncio, outliving a page and a process."""
