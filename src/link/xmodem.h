/* Files over a serial line: XMODEM (blocks of 128 bytes with a sum or a CRC-16, of 1024 with a CRC)
 * and YMODEM (with names and sizes, several files).  Both sides are state machines without port and
 * clock: what came and the time are given to them, and they are asked for what to send. */
#ifndef MOS_LINK_XMODEM_H
#define MOS_LINK_XMODEM_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum {
    MOS_XMODEM_SHORT = 128,
    MOS_XMODEM_LONG = 1024,
    MOS_XMODEM_PACKET = 3 + MOS_XMODEM_LONG + 2
};

enum mos_xmodem_kind {
    MOS_XMODEM,    /* blocks of 128; sum or CRC, as the receiver calls for it */
    MOS_XMODEM_1K, /* of 1024, where the receiver calls for a CRC */
    MOS_YMODEM,    /* the same with a first block about the file, and several files */
};

enum mos_xmodem_state {
    MOS_XMODEM_CALLED, /* the receiver is to call for something */
    MOS_XMODEM_NAMED,  /* … to confirm the file's name */
    MOS_XMODEM_ASKED,  /* … to call for the content */
    MOS_XMODEM_SENDS,  /* … to confirm a block */
    MOS_XMODEM_ENDS,   /* … the file's end */
    MOS_XMODEM_CLOSED, /* … to call for another file */
    MOS_XMODEM_LEAVES, /* … to confirm that there is none */
    MOS_XMODEM_DONE,
    MOS_XMODEM_FAILED,
};

/* ---- sending ---- */

struct mos_xmodem_file {
    const char *name; /* without its folder; of XMODEM it is not sent */
    uint64_t size;    /* bytes */
};

struct mos_xmodem {
    enum mos_xmodem_kind kind;
    enum mos_xmodem_state state;
    const char *why;                     /* failed: in a few words */
    const struct mos_xmodem_file *files; /* the caller's, as long as they are sent */
    size_t count, current;
    uint64_t sent; /* bytes of the current file that were confirmed */
    size_t block;  /* bytes of the one that was sent last */
    uint8_t number;
    bool sums;  /* a sum instead of a CRC */
    bool small; /* long blocks did not arrive: short ones from now on */
    unsigned tries, cancels, resent;
    bool speaks; /* something is to be sent now */
    int64_t spoke, due;
};

/* One file; of MOS_YMODEM one or more. */
void mos_xmodem_begin(struct mos_xmodem *x, enum mos_xmodem_kind kind,
                      const struct mos_xmodem_file *files, size_t count, int64_t now);
/* Bytes have come; how many of them were its own: what follows the end is somebody else's. */
size_t mos_xmodem_take(struct mos_xmodem *x, const uint8_t *bytes, size_t length, int64_t now);
/* What is to be sent at this time, in `packet` (of MOS_XMODEM_PACKET); 0: nothing.  Where *length
 * is not 0 so many bytes of the current file from *at on belong to packet + 3, and then
 * mos_xmodem_seal() is called with it. */
size_t mos_xmodem_next(struct mos_xmodem *x, int64_t now, uint8_t *packet, uint64_t *at,
                       size_t *length);
/* Fills a packet up behind `length` bytes of content and puts its sum behind it; the packet's
 * length. */
size_t mos_xmodem_seal(const struct mos_xmodem *x, uint8_t *packet, size_t length);

/* ---- receiving ---- */

enum mos_xmodem_news {
    MOS_XMODEM_NOTHING,
    MOS_XMODEM_FILE,  /* a file begins: name and size (UINT64_MAX: not told) */
    MOS_XMODEM_BYTES, /* `length` bytes of it at `at` */
    MOS_XMODEM_END,   /* that file is whole */
};

struct mos_xmodem_receiver {
    enum mos_xmodem_kind kind;
    bool done, failed;
    const char *why;
    char name[MOS_XMODEM_LONG]; /* of the current file; "" */
    uint64_t size, got;         /* bytes; size UINT64_MAX: not told */
    const uint8_t *bytes;       /* with MOS_XMODEM_BYTES, good until the next call */
    size_t length;
    uint64_t at;
    bool sums;      /* it calls for sums */
    bool in_file;   /* YMODEM: the first block came */
    bool ended;     /* the end was told once: it must come twice */
    uint8_t number; /* of the block that comes next */
    uint8_t packet[MOS_XMODEM_PACKET];
    size_t fill, wants; /* of the packet so far; its length, 0: between packets */
    bool purges;        /* all is dropped until the line is quiet */
    uint8_t answers[8]; /* what is to be sent */
    size_t answer_count;
    unsigned tries, cancels, calls;
    int64_t due;
};

/* Calls for it at once; XMODEM: for a CRC first, and for sums when nobody answers to that. */
void mos_xmodem_receive(struct mos_xmodem_receiver *r, enum mos_xmodem_kind kind, int64_t now);
/* Bytes have come: takes them up to the first news, *taken of them. */
enum mos_xmodem_news mos_xmodem_hear(struct mos_xmodem_receiver *r, const uint8_t *bytes,
                                     size_t length, int64_t now, size_t *taken);
/* What is to be sent at this time, at most 8 bytes. */
size_t mos_xmodem_answer(struct mos_xmodem_receiver *r, int64_t now, uint8_t *out);

/* CRC-16 of XMODEM: x^16 + x^12 + x^5 + 1, from 0. */
uint16_t mos_xmodem_crc(const uint8_t *bytes, size_t length);

#endif
