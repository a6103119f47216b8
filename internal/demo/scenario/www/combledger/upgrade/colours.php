<?php
/* To the next version: queens are marked with the colour of their year. */
require __DIR__ . '/../private/ledger.php';
require __DIR__ . '/../lib/store.php';

try {
    store()->query('ALTER TABLE ' . LEDGER_PREFIX . 'hives ADD colour VARCHAR(10) NOT NULL DEFAULT ""');
    echo "hives have a colour now\n";
} catch (mysqli_sql_exception $refused) {
    echo $refused->getMessage(), "\n";
    exit(1);
}
