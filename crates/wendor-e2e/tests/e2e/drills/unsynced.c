/* A loss of power, for the drill: what was not synced is gone.
 *
 * Loaded before the service (LD_PRELOAD), it copies what is made durable in DRILL_FOLDER to DRILL_STORE: the content of a file when it is
 * synced, as "<inode>", and which names there are when the folder is synced, as "names" with a line "<inode> <name>" for each. The
 * drill kills the service and builds the folder anew from that, which is the least that a disk may hold by then. */
#define _GNU_SOURCE
#include <dirent.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

static void copy_file(int from, const char *store, unsigned long inode) {
  char path[PATH_MAX], buffer[65536];
  struct stat is, was;
  if (fstat(from, &is) != 0) return;
  snprintf(path, sizeof path, "%s/%lu", store, inode);
  int to = open(path, O_WRONLY | O_CREAT, 0600);
  if (to < 0) return;
  off_t at = 0;
  /* Segments only grow: what was copied before need not be again. Small files are written anew. */
  if (fstat(to, &was) == 0 && is.st_size > 4096 && was.st_size <= is.st_size) at = was.st_size;
  for (;;) {
    ssize_t got = pread(from, buffer, sizeof buffer, at);
    if (got <= 0 || pwrite(to, buffer, (size_t)got, at) != got) break;
    at += got;
  }
  if (ftruncate(to, is.st_size) != 0) perror("drill");
  close(to);
}

static void copy_names(const char *folder, const char *store) {
  char path[PATH_MAX], new[PATH_MAX], file[PATH_MAX];
  snprintf(path, sizeof path, "%s/names", store);
  snprintf(new, sizeof new, "%s/names.new", store);
  DIR *listing = opendir(folder);
  FILE *out = fopen(new, "w");
  struct dirent *one;
  while (listing && out && (one = readdir(listing))) {
    struct stat is;
    snprintf(file, sizeof file, "%s/%s", folder, one->d_name);
    if (stat(file, &is) == 0 && S_ISREG(is.st_mode)) fprintf(out, "%lu %s\n", (unsigned long)is.st_ino, one->d_name);
  }
  if (listing) closedir(listing);
  if (out) fclose(out);
  rename(new, path);
}

static void keep(int fd) {
  const char *folder = getenv("DRILL_FOLDER"), *store = getenv("DRILL_STORE");
  char link[64], path[PATH_MAX];
  if (!folder || !store) return;
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  ssize_t length = readlink(link, path, sizeof path - 1);
  if (length <= 0) return;
  path[length] = 0;
  size_t own = strlen(folder);
  if (strcmp(path, folder) == 0) {
    copy_names(folder, store);
  } else if (strncmp(path, folder, own) == 0 && path[own] == '/' && !strchr(path + own + 1, '/')) {
    struct stat is;
    /* The descriptor may be for writing alone. */
    int from = open(path, O_RDONLY);
    if (from < 0) return;
    if (fstat(from, &is) == 0) copy_file(from, store, (unsigned long)is.st_ino);
    close(from);
  }
}

int fdatasync(int fd) {
  keep(fd);
  return (int)syscall(SYS_fdatasync, fd);
}

int fsync(int fd) {
  keep(fd);
  return (int)syscall(SYS_fsync, fd);
}
