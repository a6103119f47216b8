<?php
/* The front page: the hives and their last inspections. */
require __DIR__ . '/private/ledger.php';
require __DIR__ . '/lib/store.php';

$link = store();
$rows = $link->query(
    'SELECT a.name AS apiary, COUNT(DISTINCT h.id) AS hives, COUNT(i.id) AS inspections,
            ROUND(AVG(i.frames), 1) AS frames
       FROM ' . LEDGER_PREFIX . 'apiaries a
       JOIN ' . LEDGER_PREFIX . 'hives h ON h.apiary = a.id
       JOIN ' . LEDGER_PREFIX . 'inspections i ON i.hive = h.id
      GROUP BY a.id ORDER BY a.id LIMIT 5'
);
echo LEDGER_TITLE, "\n";
foreach ($rows as $row) {
    printf("  %s: %d hives, %s inspections, %s frames on average\n",
        $row['apiary'], $row['hives'], number_format($row['inspections']), $row['frames']);
}
