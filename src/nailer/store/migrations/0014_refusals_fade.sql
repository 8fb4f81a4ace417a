-- Refused sign-ins fade bit by bit, so their count has a fraction.
ALTER TABLE refusals MODIFY failures DOUBLE NOT NULL;
