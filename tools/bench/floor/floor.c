/* The floors that Woodlark is measured against: the least that does the work,
 * with plain system calls and nothing else.
 *
 *	floor sweep          a loop of sendmmsg and recvmmsg over 127.1.0.0/16
 *	floor ping N SECONDS  N addresses, one echo request a second each
 *	floor once           one echo request to 127.0.0.1
 *	floor tcp SECONDS     one connection over loopback: write here, recv there
 *	floor udp SECONDS PACKETS-A-SECOND SIZE  paced datagrams over loopback
 *	floor pace SECONDS PACKETS-A-SECOND  how late 99 % of datagrams leave at most
 *	floor frames SECONDS PAYLOAD NEAR FAR  datagrams from one network namespace to another
 *	                      as fast as it goes: how many a second arrive
 *	floor link SECONDS BYTES NEAR FAR INTERFACE  the same of Ethernet frames, through rings that
 *	                      packet sockets share with the kernel; bytes without FCS
 *	floor spend FILE PROGRAM ARGUMENT …
 *
 * The last runs a program and writes its processor seconds and its peak memory
 * in KiB into a file: the kernel counts the memory of whoever forked a program
 * as its own, and this one has little.
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <signal.h>
#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <linux/if_ether.h>
#include <linux/if_packet.h>
#include <net/if.h>
#include <netinet/in.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
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

/* pair makes two sockets of loopback that are connected to each other. */
static void pair(int kind, int *near, int *far) {
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	socklen_t n = sizeof at;
	int room = 16 << 20, l = socket(AF_INET, kind, 0);
	if (bind(l, (void *)&at, sizeof at) || getsockname(l, (void *)&at, &n)) exit(1);
	*near = socket(AF_INET, kind, 0);
	if (kind == SOCK_STREAM) {
		listen(l, 1);
		if (connect(*near, (void *)&at, sizeof at)) exit(1);
		*far = accept(l, 0, 0);
		close(l);
		return;
	}
	setsockopt(l, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
	if (connect(*near, (void *)&at, sizeof at)) exit(1);
	*far = l;
}

static int tcp(int seconds) {
	static char b[256 << 10];
	int near, far;
	long all = 0, k;
	memset(b, 0x5a, sizeof b); /* else all of it is the one page of zeros, which no sender of data has */
	pair(SOCK_STREAM, &near, &far);
	pid_t child = fork();
	if (child == 0) {
		close(near);
		while (recv(far, b, sizeof b, 0) > 0) {}
		_exit(0);
	}
	close(far);
	double begin = now();
	while (now() - begin < seconds && (k = write(near, b, sizeof b)) > 0) all += k;
	double took = now() - begin;
	close(near);
	wait4(child, 0, 0, 0);
	printf("%.0f\n", all * 8 / took);
	return 0;
}

static int udp(int seconds, double rate, int length) {
	static char b[65536], in[64][2048];
	struct mmsghdr m[64];
	struct iovec v[64];
	int near, far, k;
	long sent = 0, came = 0, total = seconds * rate;
	pair(SOCK_DGRAM, &near, &far);
	int told[2];
	if (pipe(told)) return 1;
	pid_t child = fork();
	if (child == 0) {
		for (k = 0; k < 64; k++) {
			v[k] = (struct iovec){in[k], sizeof in[k]};
			memset(&m[k], 0, sizeof m[k]);
			m[k].msg_hdr.msg_iov = &v[k];
			m[k].msg_hdr.msg_iovlen = 1;
		}
		struct timeval wait = {1, 0};
		setsockopt(far, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
		while ((k = recvmmsg(far, m, 64, MSG_WAITFORONE, 0)) > 0) came += k;
		if (write(told[1], &came, sizeof came) < 0) _exit(1);
		_exit(0);
	}
	double begin = now();
	while (sent < total) {
		if (now() - begin < sent / rate) continue;
		if (send(near, b, length, 0) == length) sent++;
	}
	if (read(told[0], &came, sizeof came) != sizeof came) return 1;
	wait4(child, 0, 0, 0);
	printf("%ld %ld\n", sent, came);
	return 0;
}

static int larger(const void *a, const void *b) {
	double x = *(double *)a, y = *(double *)b;
	return (x > y) - (x < y);
}

static int paced(int seconds, int rate) {
	static double late[1000000];
	char b[172] = {0};
	int near, far, n = seconds * rate;
	if (n > 1000000) return 1;
	pair(SOCK_DGRAM, &near, &far);
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	double begin = t.tv_sec + t.tv_nsec / 1e9;
	for (int i = 0; i < n; i++) {
		double due = begin + (i + 1.0) / rate;
		struct timespec until = {(time_t)due, (due - (time_t)due) * 1e9};
		clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, 0);
		if (send(near, b, sizeof b, 0) < 0) return 1;
		late[i] = now() - due;
	}
	qsort(late, n, sizeof *late, larger);
	printf("%.6f\n", late[n * 99 / 100] * 1e3);
	return 0;
}

/* inside makes a socket in a network namespace. */
static int inside(const char *ns, const char *address, const char *peer) {
	int fd = open(ns, O_RDONLY), room = 64 << 20;
	if (fd < 0 || setns(fd, CLONE_NEWNET)) { perror(ns); exit(1); }
	close(fd);
	fd = socket(AF_INET, SOCK_DGRAM, 0);
	struct sockaddr_in a = {.sin_family = AF_INET, .sin_port = htons(7999)}, b = a;
	inet_pton(AF_INET, address, &a.sin_addr);
	inet_pton(AF_INET, peer, &b.sin_addr);
	setsockopt(fd, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
	setsockopt(fd, SOL_SOCKET, SO_SNDBUFFORCE, &room, sizeof room);
	if (bind(fd, (void *)&a, sizeof a) || connect(fd, (void *)&b, sizeof b)) { perror("socket"); exit(1); }
	return fd;
}

static int frames(int seconds, int length, const char *near_ns, const char *far_ns) {
	static char b[64][10000];
	struct mmsghdr m[64];
	struct iovec v[64];
	int k, told[2];
	long came = 0;
	for (k = 0; k < 64; k++) {
		v[k] = (struct iovec){b[k], length};
		memset(&m[k], 0, sizeof m[k]);
		m[k].msg_hdr.msg_iov = &v[k];
		m[k].msg_hdr.msg_iovlen = 1;
	}
	if (pipe(told)) return 1;
	pid_t child = fork();
	if (child == 0) {
		int fd = inside(far_ns, "198.51.100.1", "192.0.2.1");
		struct timeval wait = {1, 0};
		setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
		if (write(told[1], &came, sizeof came) < 0) _exit(1);
		for (k = 0; k < 64; k++) v[k].iov_len = sizeof b[k];
		while ((k = recvmmsg(fd, m, 64, MSG_WAITFORONE, 0)) > 0) came += k;
		if (write(told[1], &came, sizeof came) < 0) _exit(1);
		_exit(0);
	}
	if (read(told[0], &came, sizeof came) != sizeof came) return 1;
	int fd = inside(near_ns, "192.0.2.1", "198.51.100.1");
	double begin = now(), end = begin;
	while ((end = now()) - begin < seconds)
		if (sendmmsg(fd, m, 64, 0) < 0 && errno != EAGAIN && errno != ENOBUFS) { perror("send"); return 1; }
	if (read(told[0], &came, sizeof came) != sizeof came) return 1;
	wait4(child, 0, 0, 0);
	printf("%.0f\n", came / (end - begin));
	return 0;
}

enum { slot = 2048, slots = 8192 };

/* ring shares one with the kernel, in a network namespace. */
static char *ring(const char *ns, const char *by, int kind, int *fd) {
	int at = open(ns, O_RDONLY), two = TPACKET_V2, room = 256 << 20;
	if (at < 0 || setns(at, CLONE_NEWNET)) { perror(ns); exit(1); }
	close(at);
	struct tpacket_req q = {1 << 16, slot * slots >> 16, slot, slots};
	struct sockaddr_ll a = {.sll_family = AF_PACKET, .sll_ifindex = if_nametoindex(by), .sll_protocol = kind == PACKET_RX_RING ? htons(0x88b5) : 0};
	*fd = socket(AF_PACKET, SOCK_RAW, 0);
	setsockopt(*fd, SOL_SOCKET, SO_SNDBUFFORCE, &room, sizeof room);
	if (*fd < 0 || setsockopt(*fd, SOL_PACKET, PACKET_VERSION, &two, sizeof two) || setsockopt(*fd, SOL_PACKET, kind, &q, sizeof q)) { perror("ring"); exit(1); }
	char *m = mmap(0, slot * slots, PROT_READ | PROT_WRITE, MAP_SHARED, *fd, 0);
	if (m == MAP_FAILED || bind(*fd, (void *)&a, sizeof a)) { perror("ring"); exit(1); }
	return m;
}

static volatile struct tpacket2_hdr *place(char *m, long i) { return (void *)(m + i % slots * slot); }

static int linked(int seconds, int length, const char *near_ns, const char *far_ns, const char *by) {
	int told[2], fd;
	long came = 0, sent = 0, k;
	if (pipe(told)) return 1;
	pid_t child = fork();
	if (child == 0) {
		char *m = ring(far_ns, by, PACKET_RX_RING, &fd);
		struct pollfd p = {fd, POLLIN, 0};
		if (write(told[1], &came, sizeof came) < 0) _exit(1);
		do {
			for (; place(m, came)->tp_status & TP_STATUS_USER; came++) place(m, came)->tp_status = TP_STATUS_KERNEL;
		} while (poll(&p, 1, 1000) > 0);
		if (write(told[1], &came, sizeof came) < 0) _exit(1);
		_exit(0);
	}
	if (read(told[0], &came, sizeof came) != sizeof came) return 1;
	char *m = ring(near_ns, by, PACKET_TX_RING, &fd);
	static unsigned char f[10000] = {255, 255, 255, 255, 255, 255, 2, 0, 0x5e, 0x10, 0, 1, 0x88, 0xb5};
	double begin = now(), end = begin;
	while ((end = now()) - begin < seconds) {
		for (k = 0; k < 64 && place(m, sent)->tp_status == TP_STATUS_AVAILABLE; k++, sent++) {
			memcpy((char *)place(m, sent) + TPACKET2_HDRLEN - sizeof(struct sockaddr_ll), f, length);
			place(m, sent)->tp_len = length;
			__sync_synchronize();
			place(m, sent)->tp_status = TP_STATUS_SEND_REQUEST;
		}
		if (send(fd, 0, 0, MSG_DONTWAIT) < 0 && errno != EAGAIN && errno != ENOBUFS) { perror("send"); return 1; }
	}
	if (read(told[0], &came, sizeof came) != sizeof came) return 1;
	wait4(child, 0, 0, 0);
	printf("%.0f\n", came / (end - begin));
	return 0;
}

int main(int n, char **a) {
	signal(SIGPIPE, SIG_IGN);
	if (n == 3 && !strcmp(a[1], "tcp")) return tcp(atoi(a[2]));
	if (n == 5 && !strcmp(a[1], "udp")) return udp(atoi(a[2]), atof(a[3]), atoi(a[4]));
	if (n == 4 && !strcmp(a[1], "pace")) return paced(atoi(a[2]), atoi(a[3]));
	if (n == 6 && !strcmp(a[1], "frames")) return frames(atoi(a[2]), atoi(a[3]), a[4], a[5]);
	if (n == 7 && !strcmp(a[1], "link")) return linked(atoi(a[2]), atoi(a[3]), a[4], a[5], a[6]);
	if (n == 2 && !strcmp(a[1], "sweep")) return sweep();
	if (n == 4 && !strcmp(a[1], "ping")) return ping(atoi(a[2]), atoi(a[3]));
	if (n == 2 && !strcmp(a[1], "once")) return once();
	if (n > 3 && !strcmp(a[1], "spend")) return spend(a + 2);
	return 2;
}
