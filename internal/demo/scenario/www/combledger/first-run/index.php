<?php
/* First run: makes the first keeper. Whoever can open this page can do that again. */
require __DIR__ . '/../private/ledger.php';
require __DIR__ . '/../lib/store.php';

$name = trim(fgets(STDIN) ?: '');
store()->execute_query('INSERT INTO ' . LEDGER_PREFIX . 'members (name, login, secret) VALUES (?, ?, ?)', [$name, strtolower($name), '-']);
echo "Welcome, $name.\n";
