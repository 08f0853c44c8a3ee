package remote

import "strings"

// base is where the service is called now, and what has the next place called from now on.
func (l *Link) base() (base string, next func()) {
	all := Places(l.Base)
	at := l.at.Load()
	return all[int(at)%len(all)], func() {
		if len(all) > 1 {
			l.at.CompareAndSwap(at, (at+1)%int32(len(all)))
		}
	}
}

// Places are the addresses of services that share a database, as they are written with commas between;
// at least one, which may be empty.
func Places(text string) (list []string) {
	for _, p := range strings.Split(text, ",") {
		list = append(list, strings.TrimSuffix(strings.TrimSpace(p), "/"))
	}
	return list
}
