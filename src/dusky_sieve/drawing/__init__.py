"""Pictures made on the server: SVG text and straightened photographs. Core values in, text or bytes out."""
