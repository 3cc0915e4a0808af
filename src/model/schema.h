/* The schema table: every key a definition may have, its type and where its value goes.  Reading,
 * checking, near misses, `show all` and the documentation are readers of this one table. */
#ifndef MOS_MODEL_SCHEMA_H
#define MOS_MODEL_SCHEMA_H

#include "model/model.h"

enum mos_type {
    MOS_TYPE_TEXT,
    MOS_TYPE_NAME,      /* letters, digits, - and _ */
    MOS_TYPE_INTEGER,   /* decimal digits */
    MOS_TYPE_SIZE,      /* with a unit */
    MOS_TYPE_SPAN,      /* a size, a share such as 25%, or `rest` */
    MOS_TYPE_SHARE,     /* a size, or a percentage */
    MOS_TYPE_ADDRESS,   /* 0x… */
    MOS_TYPE_BOOLEAN,   /* yes, no, true, false */
    MOS_TYPE_CHOICE,    /* one of `choices` */
    MOS_TYPE_PATH,      /* below the workspace */
    MOS_TYPE_REFERENCE, /* the name of a thing of kind `refers` */
    MOS_TYPE_SHA256,    /* 64 hexadecimal digits */
    MOS_TYPE_DATE,      /* 2026-03-01 */
    MOS_TYPE_VERSION,   /* the number of the definition format: 1 */
    MOS_TYPE_RECORD,    /* a map with the keys of `record` */
    MOS_TYPE_NAMED,     /* a map of names to records */
    MOS_TYPE_LIST,      /* a list of scalars of type `of`; a single scalar is a list of one */
};

enum mos_refers {
    MOS_REFERS_NOTHING,
    MOS_REFERS_PIECE,
    MOS_REFERS_REGION,
    MOS_REFERS_MEDIUM,
    MOS_REFERS_STAGE, /* or `rom` */
    MOS_REFERS_BLOB,
    MOS_REFERS_ENVIRONMENT,
    MOS_REFERS_FRAGMENT,
    MOS_REFERS_AREA,    /* of any medium */
    MOS_REFERS_CONTENT, /* a piece or a region */
    MOS_REFERS_COUNT
};

struct mos_keys;

struct mos_key {
    const char *name;
    enum mos_type type;
    size_t offset; /* in the structure */
    const char *about;
    bool required;
    enum mos_type of;              /* lists */
    enum mos_refers refers;        /* references; of a NAMED: what its names must be */
    const struct mos_keys *record; /* records and named */
    const char *const *choices;    /* NULL-terminated */
    bool listed;                   /* a map of names may be given as a list of them */
    bool behind; /* MOS_TYPE_NAMED: what only a feature states stands behind what the board has */
};

struct mos_keys {
    const char *title; /* "region" */
    size_t size;       /* of the structure */
    const struct mos_key *keys;
    size_t count;
    const char *brief; /* the key that a bare scalar (or list) given for the record means */
};

extern const struct mos_keys mos_board_keys, mos_trait_keys, mos_feature_keys, mos_waiver_file_keys,
    mos_workspace_keys, mos_pins_keys, mos_bench_keys;

enum mos_reading {
    MOS_READ_WHOLE,  /* a file that stands alone: everything is said */
    MOS_READ_PART,   /* one of several that are merged: nothing is required, ~ and after: allowed */
    MOS_READ_MERGED, /* parts that were read before: only what is missing is said */
};

/* Fills *record (zeroed) from a node; findings for everything that does not fit. */
void mos_schema_read(struct mos_ctx *ctx, const struct mos_keys *keys, const struct mos_node *node,
                     enum mos_reading reading, void *record);
const struct mos_key *mos_schema_key(const struct mos_keys *keys, const char *name); /* or NULL */
/* Resolves every reference of a board. */
void mos_schema_refer(struct mos_ctx *ctx, struct mos_board *board);
/* Reads one scalar; the value is marked broken when there is a finding. */
struct mos_value *mos_schema_value(struct mos_ctx *ctx, const struct mos_key *key,
                                   enum mos_type type, const struct mos_node *node);

#endif
