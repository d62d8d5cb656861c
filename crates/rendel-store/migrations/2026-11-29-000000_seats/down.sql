DROP INDEX sessions_charter;
DROP INDEX sessions_labels;
ALTER TABLE sessions
    DROP CONSTRAINT sessions_sought,
    DROP COLUMN sought_no,
    DROP COLUMN sought,
    DROP COLUMN free_seats,
    DROP COLUMN labels;
