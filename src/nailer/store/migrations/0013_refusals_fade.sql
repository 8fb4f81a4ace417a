-- Refused sign-ins fade bit by bit, so their count has a fraction; those that are old are found without reading all.
ALTER TABLE refusals
  MODIFY failures DOUBLE NOT NULL,
  ADD INDEX IF NOT EXISTS refusals_by_time (last_at);
