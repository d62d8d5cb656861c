DROP TABLE timelines;
DROP TABLE calls;
