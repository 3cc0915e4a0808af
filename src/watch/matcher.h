/* Many texts looked for in a line at once: an Aho-Corasick automaton over the longest plain part of
 * each, which is then compared as a whole. */
#ifndef MOS_WATCH_MATCHER_H
#define MOS_WATCH_MATCHER_H

#include "base/arena.h"
#include "base/buf.h"

enum { MOS_MATCHER_PARTS = 4 }; /* plain parts of a text, and what stands between and behind them */

/* What stood for a {} of a text: bytes of the line, not NUL-terminated. */
struct mos_match {
    size_t number; /* of the text, from 0 */
    const char *values[MOS_MATCHER_PARTS];
    size_t lengths[MOS_MATCHER_PARTS];
    size_t count;
};

struct mos_matcher;

/* Empty; texts are added, then it is made once. */
struct mos_matcher *mos_matcher_new(struct mos_arena *arena);
/* A text; {} stands for anything (shortest first, what is left where it is last), {A...B} for what
 * begins with A and ends with B, a ^ at its beginning for where a line begins, a $ at its end for
 * where it ends.  Its number.  It must have a
 * plain part of two bytes or more, and at most MOS_MATCHER_PARTS - 1 {}: SIZE_MAX, else. */
size_t mos_matcher_add(struct mos_matcher *m, const char *text, size_t length);
void mos_matcher_make(struct mos_matcher *m);
/* Tells each text that is in line[0..length), `start` being where its message begins; each at most
 * a few times. */
void mos_matcher_line(const struct mos_matcher *m, const char *line, size_t length, size_t start,
                      void (*each)(void *self, const struct mos_match *match), void *self);
/* Does that text fit the line?  *out: what stood for its {}. */
bool mos_matcher_fits(const struct mos_matcher *m, size_t number, const char *line, size_t length,
                      size_t start, struct mos_match *out);

#endif
