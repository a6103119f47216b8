<?php
/** One connection for the page, made from the settings. */
function store(): mysqli
{
    mysqli_report(MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT);
    $link = new mysqli(LEDGER_SQL_HOST, LEDGER_SQL_USER, LEDGER_SQL_WORD, LEDGER_SQL_BASE);
    $link->set_charset(LEDGER_CHARSET);
    return $link;
}
