-- The updates with a verdict worth telling, so that they are found without reading the rest. Quotes within a JSON string are
-- escaped, so only a member of that name can match.
CREATE INDEX journal_conflicts ON journal (session, seq) WHERE body LIKE '%"verdicts":[{%';
