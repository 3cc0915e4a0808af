/* How an entry of an archive is kept in its index: as far as it differs from the one before. */
#ifndef MOS_CONTENT_INDEX_FORM_H
#define MOS_CONTENT_INDEX_FORM_H

#include "content/entry.h"

struct index_run {
    uint64_t offset, length; /* bytes */
};

/* What the entry before said; zeroed (with an arena for the path) before the first. */
struct index_state {
    struct mos_buf path;
    uint64_t uid, gid;
    int64_t mtime;
    uint32_t mtime_ns;
    uint16_t mode;
};

struct index_record {
    struct mos_entry entry;
    uint64_t sum;
    const uint8_t *text; /* all entry.size bytes of it; NULL: not kept */
    struct mos_vec runs; /* of struct index_run, rising */
};

/* More bytes than index_put() writes for it. */
size_t index_most(const struct index_record *record);
/* Writes one; `to` has the room already, and its bytes do not move. */
void index_put(struct mos_buf *to, struct index_state *state, const struct index_record *record);
/* Reads the one at *at of `form` and goes on behind it.  The path lives in the state until the
 * next; text, attributes and hash stay where they are in the form.  record->runs must have been
 * made; it is filled anew.  False: it is no entry. */
bool index_get(const struct mos_buf *form, size_t *at, struct index_state *state,
               struct index_record *record);

#endif
