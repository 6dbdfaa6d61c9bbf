"""Through the piece: who sounds when, with how many notes, and the moments that makes."""
