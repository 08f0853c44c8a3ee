package mail_test

import (
	"bufio"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	netmail "net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/channel/channeltest"
	"woodlark.example/internal/channel/mail"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
)

// office is a mail server (RFC 5321) with STARTTLS (RFC 3207) and AUTH PLAIN (RFC 4954).
type office struct {
	t       *testing.T
	listen  net.Listener
	by      *tls.Config
	trust   string
	mu      sync.Mutex
	letters []string
	to      []string
	user    string
	clear   bool // something but greetings came before TLS
	refuses string
	hangs   chan struct{}
	open    sync.WaitGroup
}

func newOffice(t *testing.T) *office {
	o := &office{t: t}
	o.by, o.trust = channeltest.Certificate(t)
	var err error
	o.listen, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	o.open.Go(func() {
		for {
			c, err := o.listen.Accept()
			if err != nil {
				return
			}
			o.open.Go(func() { o.serve(c) })
		}
	})
	t.Cleanup(func() {
		o.listen.Close()
		if o.hangs != nil {
			close(o.hangs)
		}
		o.open.Wait()
	})
	return o
}

func (o *office) serve(c net.Conn) {
	defer func() { c.Close() }()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	o.mu.Lock()
	hangs := o.hangs
	o.mu.Unlock()
	if hangs != nil {
		<-hangs
		return
	}
	r := bufio.NewReader(c)
	say := func(text string) { fmt.Fprintf(c, "%s\r\n", text) }
	say("220 office.example ready")
	secure := false
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		o.mu.Lock()
		switch word = strings.ToUpper(word); {
		case word == "EHLO" && secure:
			say("250-office.example\r\n250-8BITMIME\r\n250 AUTH PLAIN")
		case word == "EHLO":
			say("250-office.example\r\n250-8BITMIME\r\n250 STARTTLS")
		case word == "STARTTLS":
			say("220 go on")
			c = tls.Server(c, o.by)
			r, secure = bufio.NewReader(c), true
		case word == "QUIT":
			say("221 bye")
		case o.refuses != "" && word == "RCPT":
			say(o.refuses)
		case word == "AUTH":
			text, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(rest, "PLAIN "))
			o.user = strings.ReplaceAll(string(text), "\x00", "/")
			say("235 welcome")
		case word == "DATA":
			say("354 go on")
			var letter strings.Builder
			for {
				l, err := r.ReadString('\n')
				if err != nil || l == ".\r\n" {
					break
				}
				letter.WriteString(strings.TrimPrefix(l, "."))
			}
			o.letters = append(o.letters, letter.String())
			say("250 taken")
		default:
			o.clear = o.clear || !secure && word != "NOOP"
			if word == "RCPT" {
				o.to = append(o.to, rest)
			}
			say("250 ok")
		}
		o.mu.Unlock()
		if word == "QUIT" {
			return
		}
	}
}

func (o *office) Settings() string {
	s, _ := json.Marshal(map[string]any{"server": o.listen.Addr().String(), "from": "Woodlark <woodlark@northquay.example>", "to": []string{"desk@northquay.example", "duty@northquay.example"}, "user": "woodlark", "password": "s3cret", "authorities": o.trust})
	return string(s)
}

func (o *office) Got() (list []ident.ID) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, l := range o.letters {
		m, err := netmail.ReadMessage(strings.NewReader(l))
		if assert.NoError(o.t, err) {
			name, _, _ := strings.Cut(strings.Trim(m.Header.Get("Message-ID"), "<>"), "@")
			id, err := ident.Parse(name)
			assert.NoError(o.t, err)
			list = append(list, id)
		}
	}
	return list
}
func (o *office) Die() { o.listen.Close() }
func (o *office) Hang() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.hangs = make(chan struct{})
}

func TestMail(t *testing.T) {
	channeltest.Conforms(t, mail.Type, func(t *testing.T) channeltest.Receiver { return newOffice(t) })
}

func deliver(t *testing.T, settings string, m channel.Message) error {
	s, err := mail.Type.Decode([]byte(settings))
	require.NoError(t, err)
	c, err := mail.Type.Open(s)
	require.NoError(t, err)
	return c.Deliver(t.Context(), m)
}

// TestALetter: in TLS before anything is said, with who it is from and to, as text and HTML.
func TestALetter(t *testing.T) {
	o := newOffice(t)
	m := channel.Message{ID: ident.New(), At: time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC), What: "opened", Subject: "episode-1", Title: "northquay → holm: lost <now>", Text: "No answer since 10:00.\nAsk whose hop that is."}
	require.NoError(t, deliver(t, o.Settings(), m))
	assert.False(t, o.clear, "nothing goes in clear")
	assert.Equal(t, "/woodlark/s3cret", o.user)
	assert.Len(t, o.to, 2)
	read, err := netmail.ReadMessage(strings.NewReader(o.letters[0]))
	require.NoError(t, err)
	subject, err := (&mime.WordDecoder{}).DecodeHeader(read.Header.Get("Subject"))
	require.NoError(t, err)
	assert.Equal(t, m.Title, subject)
	at, err := read.Header.Date()
	require.NoError(t, err)
	assert.True(t, m.At.Equal(at))
	kindOf, params, err := mime.ParseMediaType(read.Header.Get("Content-Type"))
	require.NoError(t, err)
	assert.Equal(t, "multipart/alternative", kindOf)
	parts := map[string]string{}
	for r := multipart.NewReader(read.Body, params["boundary"]); ; {
		p, err := r.NextRawPart()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(quotedprintable.NewReader(p))
		require.NoError(t, err)
		is, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type"))
		parts[is] = string(text)
	}
	assert.Contains(t, parts["text/plain"], "Ask whose hop that is.")
	assert.Contains(t, parts["text/html"], "northquay → holm: lost &lt;now&gt;", "what is told is no markup")
}

func TestWhatAServerSays(t *testing.T) {
	o := newOffice(t)
	o.refuses = "550 no such box"
	err := deliver(t, o.Settings(), channel.Message{ID: ident.New(), Title: "a"})
	require.ErrorIs(t, err, channel.ErrRefused)
	assert.ErrorContains(t, err, "550")
	o.refuses = "451 later"
	err = deliver(t, o.Settings(), channel.Message{ID: ident.New(), Title: "a"})
	require.Error(t, err)
	assert.NotErrorIs(t, err, channel.ErrRefused)
	s := strings.Replace(o.Settings(), `"authorities":`, `"security": "starttls", "authorities":`, 1)
	var m map[string]any
	require.NoError(t, json.Unmarshal([]byte(s), &m))
	delete(m, "authorities")
	b, _ := json.Marshal(m)
	assert.ErrorContains(t, deliver(t, string(b), channel.Message{ID: ident.New(), Title: "a"}), "certificate", "who nobody vouches for is not written to")
}

func TestSettingsThatCannotBe(t *testing.T) {
	const good = `"server": "mail.example:25", "from": "a@b.example", "to": ["c@d.example"]`
	for settings, says := range map[string]string{
		`{}`: "server", `{"server": "mail", "from": "a@b.example", "to": ["c@d.example"]}`: "mail.northquay.example:587", `{"server": "m:25", "from": "a b", "to": ["c@d.example"]}`: "no mail address",
		`{"server": "m:25", "from": "a@b.example", "to": []}`: "between 1 and 50", `{"server": "m:25", "from": "a@b.example", "to": ["x"]}`: "no mail address",
		`{` + good + `, "user": "a"}`: "go together", `{` + good + `, "user": "a", "password": "b", "security": "none"}`: "not sent in clear", `{` + good + `, "authorities": "x"}`: "PEM",
	} {
		_, err := mail.Type.Decode([]byte(settings))
		assert.ErrorIs(t, err, kind.ErrInvalid, settings)
		assert.ErrorContains(t, err, says, settings)
	}
}

// TestAMailHasItsPictureAndFiles: the picture inside, the files beside, the text in both forms.
func TestAMailHasItsPictureAndFiles(t *testing.T) {
	o := newOffice(t)
	picture, pdf := []byte("\x89PNG\r\n\x1a\nmade up"), []byte("%PDF-1.3 made up")
	m := channel.Message{ID: ident.New(), At: time.Now().UTC(), What: "opened", Subject: "x", Title: "northquay → holm <lost>", Text: "No answer & so on.", Picture: picture, Files: []channel.File{{Name: "report.pdf", Type: "application/pdf", Data: pdf}}}
	require.NoError(t, deliver(t, o.Settings(), m))
	o.mu.Lock()
	defer o.mu.Unlock()
	letter, err := netmail.ReadMessage(strings.NewReader(o.letters[0]))
	require.NoError(t, err)
	parts := map[string]string{}
	var read func(header string, body io.Reader)
	read = func(header string, body io.Reader) {
		form, words, err := mime.ParseMediaType(header)
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(form, "multipart/"))
		r := multipart.NewReader(body, words["boundary"])
		for {
			p, err := r.NextRawPart()
			if err == io.EOF {
				return
			}
			require.NoError(t, err)
			form := p.Header.Get("Content-Type")
			if strings.HasPrefix(form, "multipart/") {
				read(form, p)
				continue
			}
			var of io.Reader = p
			switch p.Header.Get("Content-Transfer-Encoding") {
			case "base64":
				of = base64.NewDecoder(base64.StdEncoding, p)
			case "quoted-printable":
				of = quotedprintable.NewReader(p)
			}
			b, err := io.ReadAll(of)
			require.NoError(t, err)
			bare, _, _ := mime.ParseMediaType(form)
			parts[bare] = string(b)
			if bare == "image/png" {
				assert.Equal(t, "<picture.png>", p.Header.Get("Content-Id"))
				assert.Contains(t, p.Header.Get("Content-Disposition"), "inline")
			}
			if bare == "application/pdf" {
				assert.Contains(t, p.Header.Get("Content-Disposition"), "report.pdf")
			}
		}
	}
	read(letter.Header.Get("Content-Type"), letter.Body)
	assert.Equal(t, string(picture), parts["image/png"])
	assert.Equal(t, string(pdf), parts["application/pdf"])
	assert.Contains(t, parts["text/plain"], "No answer & so on.")
	assert.Contains(t, parts["text/html"], `<img src="cid:picture.png"`)
	assert.Contains(t, parts["text/html"], "northquay → holm &lt;lost&gt;")
}
