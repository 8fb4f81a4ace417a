-- Refused sign-ins are forgotten in time: those that are old are found without reading all.
ALTER TABLE refusals ADD INDEX IF NOT EXISTS refusals_by_time (last_at);
