/* The file about one's own table, for the jobs that reach boards. */
#ifndef MOS_API_BENCH_H
#define MOS_API_BENCH_H

#include "api/run.h"

/* The unit that is meant: by its name, or the only one of that board (`selector` NULL: of any).
 * *out NULL: there is no such file, or no unit in it and none was asked for.  false with an error
 * or findings. */
bool bench_unit(mosaicum *m, const char *path, const char *name, const char *selector,
                const struct mos_bench_unit **out);
/* Where its serial line is: "/dev/ttyUSB0", "tcp:…"; NULL with an error. */
const char *bench_port(mosaicum *m, const struct mos_bench_unit *unit);
/* Programs that have a port open, "cat (process 123)"; "": nobody, or nobody that may be looked at.
 */
const char *bench_port_users(mosaicum *m, const char *port);
/* Why a port could not be opened, by an errno value, and what to do: a sentence. */
const char *bench_why_not(mosaicum *m, const char *port, unsigned speed, int errnum);
/* A port could not be opened, an errno value: the run's error says why, and what to do; false. */
bool bench_cannot_open(mosaicum *m, const char *port, unsigned speed, int errnum);
/* Opens the port that is named, else that of the unit, at a speed (NULL: 115200); *shown: which one
 * it is.  false with an error. */
bool bench_open(mosaicum *m, const struct mos_bench_unit *unit, const char *port, const char *speed,
                const char **shown, int *line);
/* Takes the power away, and gives it again; false with an error. */
bool bench_cycle(mosaicum *m, const struct mos_bench_unit *unit);

#endif
