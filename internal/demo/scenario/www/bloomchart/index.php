<?php
// The page of Bloomchart: what flowers in the month at hand.
$store = parse_ini_file(__DIR__ . '/chart.ini', true)['store'];
$link = pg_connect(sprintf("host='%s' port='%s' dbname='%s' user='%s' password='%s'", ...array_map('addslashes', [$store['host'], $store['port'], $store['name'], $store['login'], $store['word']])))
    or exit(1);

$all = pg_fetch_assoc(pg_query($link, 'SELECT count(*) AS sightings, count(DISTINCT plant) AS plants FROM sightings'));
echo 'Bloomchart: ', number_format($all['sightings']), ' sightings of ', $all['plants'], " plants\n";
foreach (pg_fetch_all(pg_query($link, 'SELECT p.name, count(*) AS n FROM sightings s JOIN plants p ON p.id = s.plant WHERE extract(month FROM s.seen) = 7 GROUP BY p.name ORDER BY n DESC, p.name LIMIT 3')) as $row) {
    printf("  %-28s %d times in July\n", $row['name'], $row['n']);
}
