package host

// withoutWaiting means nothing here: there are no pipes among files.
const withoutWaiting = 0
