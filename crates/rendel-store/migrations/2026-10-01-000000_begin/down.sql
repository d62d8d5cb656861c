DROP TABLE snapshots, refusals, journal, epochs, sessions, charters;
