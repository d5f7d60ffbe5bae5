"""Drawing of progress in a terminal; nothing below this room prints."""
