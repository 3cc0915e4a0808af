/* Extended attributes of a file as one packed list, in order of names: for each the length of its
 * name (le16), of its value (le32), then the name ("security.capability") and the value.  Access
 * control lists are system.posix_acl_access and …_default in the kernel's form: version 2 (le32),
 * then tag (le16), permissions (le16) and number (le32) for each entry. */
#ifndef MOS_CONTENT_ATTRIBUTES_H
#define MOS_CONTENT_ATTRIBUTES_H

#include "base/buf.h"

struct mos_attribute {
    const char *name; /* not NUL-terminated */
    const uint8_t *value;
    size_t name_length, value_length;
};

/* Walks a packed list: false at its end, or where it is damaged.  Start with *at == 0. */
bool mos_attribute_next(const uint8_t *list, size_t length, size_t *at, struct mos_attribute *out);
/* Packs attributes that come in any order; the last of a name wins.  One set serves many files:
 * its memory is used again. */
struct mos_attribute_set {
    struct mos_vec items; /* in order of names */
    struct mos_buf store;
};
struct mos_attribute_set mos_attribute_set_make(struct mos_arena *arena);
void mos_attribute_reset(struct mos_attribute_set *set);
void mos_attribute_add(struct mos_attribute_set *set, const char *name, size_t name_length,
                       const void *value, size_t value_length);
void mos_attribute_pack(const struct mos_attribute_set *set, struct mos_buf *out);
/* "security.capability, user.note": the names, for people. */
const char *mos_attribute_names(struct mos_arena *arena, const uint8_t *list, size_t length);

#endif
