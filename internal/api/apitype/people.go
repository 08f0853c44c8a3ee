package apitype

import "time"

// Me is who makes a call.
type Me struct {
	Name   string     `json:"name" doc:"administrator for who has the state folder's token"`
	Person string     `json:"person,omitempty" doc:"Identifier; left out for the state folder's token"`
	Role   string     `json:"role" enum:"viewer,engineer,administrator"`
	Way    string     `json:"way" doc:"By which they came in: machine, passphrase, token or welcome"`
	EndsAt *time.Time `json:"ends_at" doc:"When the session or the token ends; null for never"`
	Scope  string     `json:"scope,omitempty" doc:"What they are let in for, in words; left out for everything"`
	May    []string   `json:"may" nullable:"false" doc:"The calls that they may make, by their identifiers in the OpenAPI document"`
}

// Scope is what somebody is let in for: what stands at sites, or has labels. Any of these is enough;
// none of both is everything.
type Scope struct {
	Sites  []string `json:"sites,omitempty" nullable:"false" maxItems:"200" doc:"Of agents or of targets"`
	Labels []string `json:"labels,omitempty" nullable:"false" maxItems:"200" doc:"Of agents"`
}

// Person is somebody who may come in.
type Person struct {
	ID         string     `json:"id"`
	Name       string     `json:"name" doc:"By which they sign in"`
	FullName   string     `json:"full_name"`
	Role       string     `json:"role" enum:"viewer,engineer,administrator"`
	Scope      *Scope     `json:"scope,omitempty" doc:"Left out for everything"`
	State      string     `json:"state" enum:"open,asked,ended" doc:"asked: they have not set a passphrase yet; ended: they may not come in"`
	CreatedAt  time.Time  `json:"created_at"`
	CreatedBy  string     `json:"created_by"`
	LastSeenAt *time.Time `json:"last_seen_at" doc:"When they signed in last; null for never"`
	EndedAt    *time.Time `json:"ended_at"`
}

// PersonSpec is a person who is to be let in.
type PersonSpec struct {
	Name     string `json:"name" maxLength:"64" doc:"By which they sign in: a to z, 0 to 9, . _ @ -"`
	FullName string `json:"full_name,omitempty" maxLength:"200"`
	Role     string `json:"role" enum:"viewer,engineer,administrator"`
	Scope    *Scope `json:"scope,omitempty" doc:"Of a viewer or an engineer; everything when left out"`
}

// PersonChange is what is to become of a person; what is left out stays.
type PersonChange struct {
	FullName *string `json:"full_name,omitempty" maxLength:"200"`
	Role     *string `json:"role,omitempty" enum:"viewer,engineer,administrator"`
	Scope    *Scope  `json:"scope,omitempty" doc:"One of nothing is everything"`
	Ended    *bool   `json:"ended,omitempty" doc:"They may not come in any more; their sessions and tokens end"`
}

// WelcomeLink is a link that is good once, by which a person sets a passphrase.
type WelcomeLink struct {
	Name   string    `json:"name"`
	Path   string    `json:"path" doc:"Of the console, behind the address of the service. It is told this once."`
	EndsAt time.Time `json:"ends_at"`
}

// Welcomed is what a one-time link is for.
type Welcomed struct {
	Name  string `json:"name" doc:"Of the person; empty where one is to be chosen"`
	First bool   `json:"first" doc:"By it the first administrator is made"`
}

// WelcomeAnswer is how a person comes in from now on.
type WelcomeAnswer struct {
	Secret     string `json:"secret" maxLength:"200" doc:"Of the link"`
	Name       string `json:"name,omitempty" maxLength:"64" doc:"Of the first administrator"`
	FullName   string `json:"full_name,omitempty" maxLength:"200" doc:"Of the first administrator"`
	Passphrase string `json:"passphrase" maxLength:"200" doc:"At least 10 characters"`
}

// NewPassphrase is another passphrase of who calls.
type NewPassphrase struct {
	Before     string `json:"before" maxLength:"200"`
	Passphrase string `json:"passphrase" maxLength:"200" doc:"At least 10 characters"`
}

// Token is a key of a person's programs, without the key.
type Token struct {
	ID         string     `json:"id"`
	Person     string     `json:"person" doc:"Identifier"`
	Name       string     `json:"name" doc:"Of the person"`
	Title      string     `json:"title"`
	Role       string     `json:"role" enum:"viewer,engineer,administrator" doc:"It may do no more than its person"`
	Scope      *Scope     `json:"scope,omitempty" doc:"Beside that of its person; left out for nothing less"`
	State      string     `json:"state" enum:"open,ended,over"`
	CreatedAt  time.Time  `json:"created_at"`
	EndsAt     *time.Time `json:"ends_at" doc:"null for never"`
	LastUsedAt *time.Time `json:"last_used_at" doc:"Within a minute; null for never"`
	UsedFrom   string     `json:"used_from"`
	Key        string     `json:"key,omitempty" doc:"Told once, when it is made"`
}

// TokenSpec is a token that is to be made.
type TokenSpec struct {
	Person string     `json:"person,omitempty" doc:"Identifier or name; who calls when left out"`
	Title  string     `json:"title" maxLength:"200" doc:"What it is for"`
	Role   string     `json:"role,omitempty" enum:"viewer,engineer,administrator" doc:"viewer when left out"`
	Scope  *Scope     `json:"scope,omitempty" doc:"Beside that of its person, of a viewer or an engineer"`
	EndsAt *time.Time `json:"ends_at,omitempty" doc:"Never when left out"`
}

// SignedIn is a session of the console.
type SignedIn struct {
	ID         string    `json:"id"`
	Name       string    `json:"name" doc:"Of the person"`
	Person     string    `json:"person,omitempty"`
	Way        string    `json:"way"`
	BeganAt    time.Time `json:"began_at"`
	EndsAt     time.Time `json:"ends_at"`
	LastSeenAt time.Time `json:"last_seen_at" doc:"Within a minute"`
	Address    string    `json:"address" doc:"From where it was seen last"`
	Browser    string    `json:"browser"`
	Own        bool      `json:"own" doc:"It is that of this call"`
}
