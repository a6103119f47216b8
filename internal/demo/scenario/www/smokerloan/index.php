<?php
/* Who has which tool, and until when. */
if (!is_readable(__DIR__ . '/includes/settings.php')) {
    exit("Copy includes/settings-sample.php to includes/settings.php first.\n");
}
require __DIR__ . '/includes/settings.php';

mysqli_report(MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT);
$store = $loan['store'];
$link = mysqli_connect($store['server'], $store['login'], $store['word'], $store['base']);
mysqli_set_charset($link, 'utf8mb4');

echo $loan['title'], "\n";
$p = $store['table_prefix'];
$rows = mysqli_query($link, "SELECT t.name, m.name AS member, l.since FROM {$p}loans l
    JOIN {$p}tools t ON t.id = l.tool JOIN {$p}members m ON m.id = l.member ORDER BY l.since");
foreach ($rows as $row) {
    echo "  {$row['name']}: {$row['member']}, since {$row['since']}\n";
}
