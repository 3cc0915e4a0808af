/* What a running Linux system changes in its own files, apart from what people edit. */
#ifndef MOS_LINUX_RUNNING_H
#define MOS_LINUX_RUNNING_H

/* Why a file at a path from the volume's root ("var/log/messages", no slash in front) comes to
 * differ without anybody's doing, in words ("a log"); NULL: somebody must have edited it.  The
 * places are those of the Filesystem Hierarchy Standard 3.0, chapter 5, and files that programs
 * make at a first start. */
const char *mos_made_by_running(const char *path);

#endif
