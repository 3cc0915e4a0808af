/* Sizes, addresses and near misses in text. */
#ifndef MOS_BASE_TEXT_H
#define MOS_BASE_TEXT_H

#include "base/arena.h"

#include <stdbool.h>
#include <stdint.h>

/* "32 KiB", "1056 KiB", "983 B": exact, as a definition may have it. */
const char *mos_size_exact(struct mos_arena *arena, uint64_t bytes);
/* For people, at most four digits: exact in the largest unit that allows it ("1056 KiB",
 * "16.5 KiB", "1000 bytes"), else as mos_size_about. */
const char *mos_size_text(struct mos_arena *arena, uint64_t bytes);
/* "12.3 MiB": rounded to one decimal, for people. */
const char *mos_size_about(struct mos_arena *arena, uint64_t bytes);
/* "1024 to 1056 KiB": a span in one common unit. */
const char *mos_span_text(struct mos_arena *arena, uint64_t start, uint64_t end);
/* "0x40200000" */
const char *mos_address_text(struct mos_arena *arena, uint64_t address);

enum mos_number_result {
    MOS_NUMBER_OK,
    MOS_NUMBER_NOT_ONE,
    MOS_NUMBER_NO_UNIT,
    MOS_NUMBER_TOO_BIG
};

/* "32 KiB", "1.5 MiB" is not one; `sector` (bytes) allows "sectors", 0 does not. */
enum mos_number_result mos_size_parse(const char *text, uint64_t sector, uint64_t *bytes);
/* Decimal digits only. */
enum mos_number_result mos_integer_parse(const char *text, uint64_t *value);
/* "0x…" with 1 to 16 hexadecimal digits. */
enum mos_number_result mos_address_parse(const char *text, uint64_t *value);

/* Days from 1970-01-01 of a date in the Gregorian calendar, and back. */
int64_t mos_days_of_date(int64_t year, int64_t month, int64_t day);
void mos_date_of_days(int64_t days, int64_t *year, int64_t *month, int64_t *day);

/* The n-th field (from 0) of a line whose fields are separated by colons; "" when there is none. */
const char *mos_field(struct mos_arena *arena, const char *line, unsigned n);
/* Is it a name as definitions have them: letters, digits, - _ and ., at most 64, the first one a
 * letter or digit? */
bool mos_is_name(const char *text);
/* A word as a shell takes it: in quotation marks where it needs them. */
const char *mos_shell_word(struct mos_arena *arena, const char *text);
/* What follows the line's end: "" behind the last one. */
const char *mos_next_line(const char *line);
/* Does a pattern with * and ? fit the whole of text[0..length)?  Neither passes over `barrier`. */
bool mos_glob(const char *pattern, const char *text, size_t length, char barrier);

/* Does a text end with another one (or is it that)? */
bool mos_text_ends(const char *text, const char *end);
/* The candidate nearest to `word` (edit distance at most a third of its length, at least 1), or
 * NULL.  candidates: `count` strings. */
const char *mos_near(const char *word, const char *const *candidates, size_t count);

/* Well-formed UTF-8 without control characters except tab and line ends? *bad: offset of the first
 * wrong byte. */
bool mos_utf8_valid(const char *text, size_t length, size_t *bad);
/* UTF-8 to UTF-16 code units, at most `room`; the count that is needed, or SIZE_MAX when the text
 * is no UTF-8. */
size_t mos_utf16_from_utf8(const char *text, uint16_t *out, size_t room);
/* UTF-16 up to `count` units or a 0; unpaired surrogates become U+FFFD. */
const char *mos_utf8_from_utf16(struct mos_arena *arena, const uint16_t *units, size_t count);

#endif
