/* Sending one file by YMODEM (batch, blocks of 1024 bytes with CRC-16).  A state machine without
 * port and clock: what came and the time are given to it, and it is asked for what to send. */
#ifndef MOS_LINK_YMODEM_H
#define MOS_LINK_YMODEM_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_YMODEM_PACKET = 3 + 1024 + 2 };

enum mos_ymodem_state {
    MOS_YMODEM_CALLED, /* the receiver is to call for something */
    MOS_YMODEM_NAMED,  /* … to confirm the file's name */
    MOS_YMODEM_ASKED,  /* … to call for the content */
    MOS_YMODEM_SENDS,  /* … to confirm a block */
    MOS_YMODEM_ENDS,   /* … the file's end */
    MOS_YMODEM_CLOSED, /* … to call for another file */
    MOS_YMODEM_LEAVES, /* … to confirm that there is none */
    MOS_YMODEM_DONE,
    MOS_YMODEM_FAILED,
};

struct mos_ymodem {
    enum mos_ymodem_state state;
    const char *why; /* failed: in a few words */
    const char *name;
    uint64_t size, sent; /* bytes; that were confirmed */
    uint8_t number;
    unsigned tries, cancels;
    bool speaks; /* something is to be sent now */
    int64_t due;
};

/* name: the caller's, for as long as it is sent. */
void mos_ymodem_begin(struct mos_ymodem *y, const char *name, uint64_t size, int64_t now);
/* Bytes have come; how many of them were its own: what follows the end is somebody else's. */
size_t mos_ymodem_take(struct mos_ymodem *y, const uint8_t *bytes, size_t length, int64_t now);
/* What is to be sent at this time, in `packet` (of MOS_YMODEM_PACKET); 0: nothing.  Where *length
 * is not 0 so many bytes of the file from *at on belong to packet + 3, and then
 * mos_ymodem_seal() is called. */
size_t mos_ymodem_next(struct mos_ymodem *y, int64_t now, uint8_t *packet, uint64_t *at,
                       size_t *length);
/* Fills a packet up behind `length` bytes of content and puts its sum behind it. */
void mos_ymodem_seal(uint8_t *packet, size_t length);

#endif
