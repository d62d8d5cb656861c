DROP INDEX journal_conflicts;
