-- What is lent today.
INSERT INTO {prefix}members (id, name) VALUES (1, 'Mabel Ashdown'), (2, 'Søren Lindqvist'), (3, 'Żaneta Wójcik');
INSERT INTO {prefix}tools (id, name) VALUES (1, 'Smoker, copper'), (2, 'Honey extractor, 4 frames'), (3, 'Queen cage 👑');
INSERT INTO {prefix}loans (tool, member, since) VALUES (1, 3, '2026-04-02'), (2, 1, '2026-07-19'), (3, 2, '2026-05-30');
