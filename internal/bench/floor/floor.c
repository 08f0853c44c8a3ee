/* The floors that Woodlark is measured against: the least that does the work,
 * with plain system calls and nothing else.
 *
 *	floor sweep          a loop of sendmmsg and recvmmsg over 127.1.0.0/16
 *	floor ping N SECONDS  N addresses, one echo request a second each
 *	floor once           one echo request to 127.0.0.1
 *	floor spend FILE PROGRAM ARGUMENT …
 *
 * The last runs a program and writes its processor seconds and its peak memory
 * in KiB into a file: the kernel counts the memory of whoever forked a program
 * as its own, and this one has little.
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum { batch = 64, most = 256, size = 32, all = 65536 };

static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

static unsigned short sum(const unsigned short *p, int n) {
	unsigned s = 0;
	while (n--) s += *p++;
	s = (s >> 16) + (s & 0xffff);
	return ~(s + (s >> 16));
}

static int open_raw(void) {
	int fd = socket(AF_INET, SOCK_RAW, IPPROTO_ICMP), room = 16 << 20;
	unsigned block = ~1u; /* all but echo replies */
	if (fd < 0) { perror("socket"); exit(1); }
	setsockopt(fd, 255, 1, &block, sizeof block);
	setsockopt(fd, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
	return fd;
}

/* echo writes an echo request that carries a number. */
static void echo(unsigned char *b, unsigned number) {
	unsigned short c;
	memset(b, 0, size);
	b[0] = 8;
	memcpy(b + 8, &number, 4);
	c = sum((void *)b, size / 2);
	memcpy(b + 2, &c, 2);
}

static int sweep(void) {
	static unsigned char out[batch][size], in[most][256], seen[all];
	static struct sockaddr_in to[batch];
	static struct iovec ov[batch], iv[most];
	static struct mmsghdr om[batch], im[most];
	int fd = open_raw(), found = 0;
	for (int i = 0; i < batch; i++) {
		ov[i] = (struct iovec){out[i], size};
		to[i].sin_family = AF_INET;
		om[i].msg_hdr = (struct msghdr){.msg_iov = &ov[i], .msg_iovlen = 1, .msg_name = &to[i], .msg_namelen = sizeof to[i]};
	}
	for (int i = 0; i < most; i++) {
		iv[i] = (struct iovec){in[i], sizeof in[i]};
		im[i].msg_hdr = (struct msghdr){.msg_iov = &iv[i], .msg_iovlen = 1};
	}
	double began = now();
	for (int k = 0; k < all; k += batch) {
		for (int i = 0; i < batch; i++) {
			echo(out[i], k + i);
			to[i].sin_addr.s_addr = htonl(0x7f010000u + k + i);
		}
		for (int done = 0; done < batch;) {
			int n = sendmmsg(fd, om + done, batch - done, 0);
			if (n < 0 && errno != EAGAIN) { perror("sendmmsg"); return 1; }
			if (n > 0) done += n;
		}
		for (int n; (n = recvmmsg(fd, im, most, MSG_DONTWAIT, 0)) > 0;)
			for (int i = 0; i < n; i++) {
				unsigned p;
				memcpy(&p, in[i] + 28, 4);
				if (p < all && !seen[p]) { seen[p] = 1; found++; }
			}
	}
	printf("%d %.0f\n", found, all / (now() - began));
	return 0;
}

static int ping(int targets, int seconds) {
	unsigned char b[size], in[256];
	struct sockaddr_in to = {.sin_family = AF_INET};
	struct timespec start, due;
	long sent = 0, answered = 0, late = 0, total = (long)targets * seconds;
	int fd = open_raw();
	clock_gettime(CLOCK_MONOTONIC, &start);
	for (long i = 0; i < total; i++) {
		long after = (long)(i * (1e9 / targets));
		due.tv_sec = start.tv_sec + (start.tv_nsec + after) / 1000000000;
		due.tv_nsec = (start.tv_nsec + after) % 1000000000;
		clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &due, 0);
		if (now() - (due.tv_sec + due.tv_nsec / 1e9) > 0.001) late++;
		echo(b, i);
		to.sin_addr.s_addr = htonl(0x7f010000u + (i % targets / 250 << 8) + i % 250 + 1);
		if (sendto(fd, b, size, 0, (void *)&to, sizeof to) == size) sent++;
		while (recv(fd, in, sizeof in, MSG_DONTWAIT) > 0) answered++;
	}
	printf("%.4f %ld\n", 100.0 * (sent - late) / sent, sent - answered);
	return 0;
}

static int once(void) {
	unsigned char b[size], in[256];
	struct sockaddr_in to = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	int fd = open_raw();
	echo(b, 1);
	if (sendto(fd, b, size, 0, (void *)&to, sizeof to) != size) return 1;
	return recv(fd, in, sizeof in, 0) <= 0;
}

static int spend(char **a) {
	struct rusage u;
	int status;
	pid_t child = fork();
	if (child == 0) {
		execv(a[1], a + 1);
		_exit(127);
	}
	if (child < 0 || wait4(child, &status, 0, &u) < 0) return 1;
	FILE *f = fopen(a[0], "w");
	if (!f) return 1;
	fprintf(f, "%.6f %ld\n", u.ru_utime.tv_sec + u.ru_stime.tv_sec + (u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6, u.ru_maxrss);
	fclose(f);
	return WIFEXITED(status) ? WEXITSTATUS(status) : 1;
}

int main(int n, char **a) {
	if (n == 2 && !strcmp(a[1], "sweep")) return sweep();
	if (n == 4 && !strcmp(a[1], "ping")) return ping(atoi(a[2]), atoi(a[3]));
	if (n == 2 && !strcmp(a[1], "once")) return once();
	if (n > 3 && !strcmp(a[1], "spend")) return spend(a + 2);
	return 2;
}
