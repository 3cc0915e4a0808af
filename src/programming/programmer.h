/* Writing a board's soldered storage through its loader: pieces of the image go to its RAM, by TFTP
 * or over the serial line, from there to the storage, and are read back from it into other RAM,
 * whose sum the loader prints.  What is there already is not sent.  In the order of media/write.h:
 * what is old is made invalid first, what makes it whole comes last. */
#ifndef MOS_PROGRAMMING_PROGRAMMER_H
#define MOS_PROGRAMMING_PROGRAMMER_H

#include "io/io.h"
#include "media/write.h"
#include "programming/talk.h"

/* Why it is not whole. */
enum mos_programmer_fault {
    MOS_PROGRAMMER_NONE,
    MOS_PROGRAMMER_REFUSED, /* nothing was written: it is not what it should be, or cannot be done
                             */
    MOS_PROGRAMMER_FAILED,  /* a command, or the way to the board */
    MOS_PROGRAMMER_DIFFERS, /* what was read back is something else */
};

struct mos_programmer {
    struct mos_ctx *ctx;
    struct mos_talk *talk;
    const struct mos_loader_orders *orders;
    const char *medium; /* the loader's name, "mmc 0" */
    unsigned area;
    bool by_line; /* else through the network: */
    const char *own_address, *netmask, *server;
    uint64_t window_from, window_to; /* RAM of the board that may be used; 0, 0: as it tells */
    uint64_t grain;                  /* bytes: what is written begins and ends there */
    uint64_t largest;                /* bytes of a piece at most; 0: as fits the way */
    /* mos_programmer_identify() fills in: */
    struct mos_order_told told;
    bool loader_ready; /* its network knows its addresses */
    /* what is written; tables belong to the size that was found */
    struct mos_io *content;
    const struct mos_media_span *spans;
    size_t span_count;
    const struct mos_media_patch *patches, *voids;
    size_t patch_count, void_count;
    bool keeps; /* spans that may_stay do */
    /* outcome */
    enum mos_programmer_fault fault;
    const char *why;     /* in a few words */
    const char *said;    /* the loader's own words on it; NULL */
    uint64_t at, length; /* where; length 0: nowhere in particular */
    const char *region;  /* … */
    bool invalid;        /* it was made so, and nothing takes it for whole */
    bool stuck;  /* … but not all of what makes it so could be written: nobody knows what it is */
    bool proved; /* all of it was read back, after the last write, and is right */
    uint64_t written, kept; /* bytes */
    struct mos_vec pieces;  /* within */
    uint8_t *bytes;
    uint64_t piece_size;
    struct { /* the piece that is served */
        char name[32];
        const uint8_t *bytes;
        uint64_t size;
    } offered;
};

/* Asks the loader for its RAM and for the medium.  false with p->fault. */
bool mos_programmer_identify(struct mos_programmer *p);
/* Has the medium these bytes there?  false with p->fault where that cannot be told. */
bool mos_programmer_holds(struct mos_programmer *p, const struct mos_media_patch *patch,
                          bool *same);
/* Does all of it.  false with p->fault, or ctx->error when the image cannot be read. */
bool mos_programmer_write(struct mos_programmer *p);
/* For struct mos_server: the piece that is on offer. */
bool mos_programmer_find(void *self, const struct mos_peer *from, const char *name,
                         struct mos_served *out, const char **why);
int mos_programmer_read(void *self, void *file, void *to, size_t length, uint64_t at);

#endif
