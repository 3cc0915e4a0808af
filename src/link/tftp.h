/* Serving a file by TFTP: RFC 1350, with the options of RFC 2347 (2348 block size, 2349 time limit
 * and size, 7440 windows).  A state machine without sockets and clock: packets and the time are
 * given to it, and it is asked for what to send. */
#ifndef MOS_LINK_TFTP_H
#define MOS_LINK_TFTP_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_TFTP_PORT = 69, MOS_TFTP_PACKET = 4 + 65464, MOS_TFTP_WINDOW = 64 };

/* What a request asks for. */
struct mos_tftp_wish {
    char file[256];   /* its name, as it came */
    uint32_t block;   /* bytes; 0: not asked for */
    uint32_t window;  /* blocks; 0: not asked for */
    uint32_t seconds; /* until something is sent again; 0: not asked for */
    bool size;        /* it wants to be told the size */
};

enum mos_tftp_state { MOS_TFTP_GOES_ON, MOS_TFTP_DONE, MOS_TFTP_FAILED };

/* One transfer. */
struct mos_tftp {
    struct mos_tftp_wish wish;
    enum mos_tftp_state state;
    const char *why; /* failed: in a few words, or what the other side said (`said`) */
    char said[128];
    uint64_t size; /* of the file, bytes */
    uint32_t block, window;
    int64_t pause; /* ns until something is sent again */
    bool greets;   /* the options that it takes have not been confirmed yet */
    bool greeting_sent;
    uint64_t acked, sent, last; /* numbers of blocks, from 1; they never roll over here */
    uint64_t again;             /* behind this one blocks were sent again for an ACK: only once */
    uint64_t resent;            /* blocks that were sent more than once, in all */
    unsigned tries;
    int64_t due;
};

/* Reads a request for a file.  false: it is something else, or cannot be had (*why: in a few words,
 * or NULL where nothing should be answered). */
bool mos_tftp_read_request(const uint8_t *packet, size_t length, struct mos_tftp_wish *out,
                           const char **why);
/* An answer that refuses; bytes of it, at most `size` (of 64 or more). */
size_t mos_tftp_refuse(uint8_t *packet, size_t size, unsigned code, const char *why);
/* Starts to serve a file of so many bytes. */
void mos_tftp_begin(struct mos_tftp *t, const struct mos_tftp_wish *wish, uint64_t size,
                    int64_t now);
/* A packet has come from the one who asked. */
void mos_tftp_take(struct mos_tftp *t, const uint8_t *packet, size_t length, int64_t now);
/* The next packet to be sent at this time, without a block's content: its header's bytes in
 * `packet` (of MOS_TFTP_PACKET), 0: none.  Of a block *at and *length say what of the file goes
 * behind the header. */
size_t mos_tftp_next(struct mos_tftp *t, int64_t now, uint8_t *packet, uint64_t *at,
                     size_t *length);

#endif
