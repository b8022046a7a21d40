package paste

import (
	"fmt"
	"slices"
	"strings"

	"youngtrellis/internal/core/near"
)

// option is one of curl: what becomes of it, and whether a value comes with it.
//
// What becomes of it is "" where it changes nothing of what is sent or says how the
// program behaves, "machine" where it says how the machine reaches the other side,
// "refused" where a step cannot do it, and else a word that curl.take knows.
type option struct {
	what  string
	value bool
}

// table lists options: a letter where there is one, the long name, a = where a value
// comes with it.
const table = `
request      -X,request=
header       -H,header=
url          url=
data         -d,data= data-ascii=
data-raw     data-raw=
data-binary  data-binary=
data-encoded data-urlencode=
json         json=
form         -F,form=
form-string  form-string=
user         -u,user=
bearer       oauth2-bearer=
cookie       -b,cookie=
agent        -A,user-agent=
referer      -e,referer=
upload       -T,upload-file=
query        url-query=
range        -r,range=
get          -G,get
head         -I,head
glob         -g,globoff
as-is        path-as-is
insecure     -k,insecure
trusted      location-trusted
anyauth      anyauth
crlf         crlf
escape       form-escape
method       post301 post302 post303
netrc        -n,netrc netrc-optional netrc-file=
te           tr-encoding
machine      -x,proxy= -U,proxy-user= proxy-header= resolve= connect-to= interface= -E,cert= cert-type= key= key-type= pass= dns-interface= dns-ipv4-addr= dns-ipv6-addr= dns-servers= doh-url=
machine      preproxy= proxy-cacert= proxy-capath= proxy-cert= proxy-cert-type= proxy-ciphers= proxy-crlfile= proxy-key= proxy-key-type= proxy-pass= proxy-pinnedpubkey= proxy-service-name= proxy-tls13-ciphers=
machine      proxy-tlsauthtype= proxy-tlspassword= proxy-tlsuser= proxy1.0= socks4= socks4a= socks5= socks5-gssapi-service= socks5-hostname= noproxy= local-port= pinnedpubkey= tlsauthtype= tlspassword= tlsuser=
machine      -p,proxytunnel proxy-anyauth proxy-basic proxy-digest proxy-insecure proxy-negotiate proxy-ntlm proxy-ssl-allow-beast proxy-ssl-auto-client-cert proxy-tlsv1 socks5-basic socks5-gssapi socks5-gssapi-nec
refused      -K,config= unix-socket= abstract-unix-socket= aws-sigv4= request-target= -z,time-cond= -C,continue-at= etag-compare= variable= expand-data= expand-url= expand-header= -Q,quote=
refused      digest ntlm ntlm-wb negotiate -:,next -a,append -M,manual -V,version haproxy-protocol metalink http3-only -B,use-ascii -l,list-only delegation= krb= login-options= sasl-authzid= sasl-ir service-name=
refused      mail-auth= mail-from= mail-rcpt= mail-rcpt-allowfails ftp-account= ftp-alternative-to-user= ftp-create-dirs ftp-method= ftp-pasv -P,ftp-port= ftp-pret ftp-skip-pasv-ip ftp-ssl-ccc ftp-ssl-ccc-mode= ftp-ssl-control
refused      -t,telnet-option= tftp-blksize= tftp-no-options hostpubmd5= hostpubsha256= pubkey= disable-eprt disable-epsv compressed-ssh
.            -o,output= -m,max-time= connect-timeout= retry= retry-delay= retry-max-time= -w,write-out= -c,cookie-jar= -D,dump-header= cacert= capath= limit-rate= max-redirs= -y,speed-time= -Y,speed-limit= output-dir=
.            trace= trace-ascii= stderr= alt-svc= ciphers= create-file-mode= crlfile= curves= egd-file= engine= etag-save= expect100-timeout= happy-eyeballs-timeout-ms= -h,help= hsts= keepalive-time= libcurl= max-filesize=
.            parallel-max= proto= proto-default= proto-redir= random-file= rate= tls-max= tls13-ciphers=
.            -s,silent -S,show-error -L,location -i,include -v,verbose -f,fail fail-with-body fail-early compressed -O,remote-name -J,remote-header-name -N,no-buffer buffer -#,progress-bar progress-meter no-progress-meter
.            http0.9 http1.1 http2 -0,http1.0 http2-prior-knowledge http3 -4,ipv4 -6,ipv6 tlsv1.0 tlsv1.1 tlsv1.2 tlsv1.3 -1,tlsv1 -2,sslv2 -3,sslv3 ssl ssl-reqd basic raw create-dirs tcp-nodelay tcp-fastopen no-keepalive keepalive
.            -q,disable styled-output no-styled-output -Z,parallel parallel-immediate -R,remote-time remote-name-all remove-on-error retry-all-errors retry-connrefused suppress-connect-headers trace-time trace-ids xattr no-clobber clobber
.            no-alpn alpn no-npn npn no-sessionid sessionid false-start cert-status ssl-allow-beast ssl-auto-client-cert ssl-no-revoke ssl-revoke-best-effort ignore-content-length -j,junk-session-cookies disallow-username-in-url
.            doh-cert-status doh-insecure ca-native proxy-ca-native
`

var options, longNames = readTable()

func readTable() (map[string]option, []string) {
	out, long := map[string]option{}, []string{}
	for _, line := range strings.Split(strings.TrimSpace(table), "\n") {
		words := strings.Fields(line)
		what := strings.TrimPrefix(words[0], ".")
		for _, w := range words[1:] {
			name, value := strings.CutSuffix(w, "=")
			if letter, rest, ok := strings.Cut(name, ","); ok {
				out[letter] = option{what, value}
				name = rest
			}
			out["--"+name] = option{what, value}
			long = append(long, "--"+name)
		}
	}
	slices.Sort(long)
	return out, long
}

// longOption finds an option by its name, as much of it as makes it certain, or by
// its name with no- before it, which takes a switch back.
func longOption(name string) (string, option, error) {
	if o, ok := options[name]; ok {
		return name, o, nil
	}
	var found []string
	for _, known := range longNames {
		if strings.HasPrefix(known, name) {
			found = append(found, known)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], options[found[0]], nil
	case len(found) > 1:
		return "", option{}, fmt.Errorf("the option %s may be %s; write it out", name, strings.Join(found, " or "))
	}
	if bare, ok := strings.CutPrefix(name, "--no-"); ok {
		if o, known := options["--"+bare]; known && !o.value {
			return name, option{}, nil
		}
	}
	return "", option{}, unknownOption(name)
}

func unknownOption(name string) error {
	return fmt.Errorf("the option %s is not known here; take it out if it does not change what is sent.%s", name, near.Hint(name, slices.DeleteFunc(slices.Clone(longNames), func(n string) bool { return strings.HasPrefix(n, "--no-") })))
}
