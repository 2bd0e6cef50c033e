"""The database behind the API: a second witness of its rows, that is only ever read."""
