package words

import "strings"

// writtenInGo are the words that Go writes in capitals; see the list in Go's code
// review comments.
const writtenInGo = "ACL API ASCII CPU CSS CSV DNS EOF GUID HTML HTTP HTTPS ID IP JSON OS PDF RAM SQL SSH TCP TLS TTL UDP UI UID URI URL UTF8 UUID VAT VM XML"

// writtenInTrade are other initialisms and names, each as it is written.
const writtenInTrade = `2D 2FA 3D AES AMQP ARP ASN AWS BGP BIC BIOS CDN CIDR CLI CMS CORS CPE CRC CRL CRM CRUD CSRF CSR CVE CVSS DB DDL DHCP DKIM DMARC DML DOI DRM DSL DST DVD
	EAN EBICS EC2 ECDSA EDI EORI ERP ETL EULA FAQ FQDN FTP GCP GDPR GID GIF GIS GLN GMT GPG GPRS GPS GPU GPX GraphQL GRPC GSM GST GTIN GUI HDD HMAC HR HSM HTML5 HVAC IBAN ICAL ICMP IDE IDP
	IMAP IMEI IMSI iOS IoT IPAM IPC IPMI IPv4 IPv6 IRC ISBN ISIN ISO ISP ISSN JPEG JPG JS JWK JWKS JWT K8s KML KPI KVM KYC LAN LDAP LDIF LLDP LoRa LoRaWAN LTE LUN M2M MAC MD5 MFA MIB MIME MMS MP3 MP4 MPLS MQTT MRP
	MSISDN MTU NAT NFC NFS NFT NIC NPS NTP OAuth OAuth1 OAuth2 OCR OCSP OEM OID OIDC OSPF OTP PaaS IaaS SaaS PCI PGP PHP PKCE PID PKI PNG PO POP3 PPP PSK QA QoS QR RBAC RDP RFC RFID RFQ RGB RMA ROI RPC
	RSA RSS RTT S3 SAML SCIM SCSI SDK SEO SEPA SFTP SHA SHA1 SHA256 SIP SKU SLA SMB SMS SMTP SNMP SPF SQS SRV SSD SSID SSL SSN SSO SVG SVN TLD TOS TOTP TSV TXT
	U2F UK UPC UPN UPS USA USB UTC UTM VAT VIN VIP VLAN VNC VoIP VPC VPN VPS VRF WAF WAL WAN WebAuthn WiFi WLAN WMS WOL WSDL WWW XLS XLSX XML XMPP XSD XSLT YAML`

// unchanged are nouns that are the same in the plural, and those that nobody counts.
const unchanged = `metadata data media series species news equipment information software hardware firmware feedback staff personnel weather traffic progress headquarters chassis
	stats statistics analytics logistics physics economics ethics mathematics graphics electronics means corps debris aircraft spacecraft sheep fish deer moose salmon trout
	advice research evidence money cash furniture luggage music knowledge homework housework machinery scenery health wealth education electricity oxygen
	bios saas paas iaas dns gps sms mms dhcp snmp ldap smtp imap http https ssh ssl tls tcp udp ntp oauth oauth1 oauth2 saml sso mfa html css json yaml xml rss gdpr ram it hr
	clothes scissors trousers binoculars pants jeans premises outskirts riches thanks earnings savings winnings belongings surroundings annals alms goods odds tongs proceeds customs tos qty
	wol raid nat misc temp tmp sync async reindex rebuild honey wax nectar pollen propolis`

// pairs are nouns whose plural the library does not know, or knows another one of.
const pairs = `alias:aliases atlas:atlases bias:biases bonus:bonuses bus:buses campus:campuses canvas:canvases corpus:corpora lens:lenses gas:gases virus:viruses status:statuses
	address:addresses process:processes access:accesses business:businesses class:classes glass:glasses mass:masses boss:bosses loss:losses cross:crosses dress:dresses press:presses pass:passes
	analysis:analyses basis:bases axis:axes diagnosis:diagnoses thesis:theses crisis:crises hypothesis:hypotheses synthesis:syntheses emphasis:emphases parenthesis:parentheses
	index:indices matrix:matrices vertex:vertices appendix:appendices criterion:criteria phenomenon:phenomena schema:schemas curriculum:curricula stimulus:stimuli nucleus:nuclei radius:radii
	cache:caches database:databases base:bases movie:movies cookie:cookies zombie:zombies quiz:quizzes person:people child:children man:men woman:women foot:feet tooth:teeth mouse:mice goose:geese ox:oxen
	leaf:leaves shelf:shelves wolf:wolves life:lives knife:knives wife:wives half:halves loaf:loaves thief:thieves calf:calves proof:proofs roof:roofs chief:chiefs belief:beliefs brief:briefs staff:staff
	hero:heroes potato:potatoes tomato:tomatoes echo:echoes veto:vetoes photo:photos piano:pianos logo:logos video:videos radio:radios memo:memos studio:studios zero:zeros euro:euros
	census:censuses consensus:consensuses prospectus:prospectuses apparatus:apparatuses nexus:nexuses plus:pluses minus:minuses focus:focuses menu:menus
	inventory:inventories history:histories stock:stocks setting:settings quota:quotas agenda:agendas area:areas camera:cameras formula:formulas antenna:antennas saga:sagas visa:visas
	tie:ties pie:pies zero:zeroes octopus:octopi die:dies die:dice cause:causes clause:clauses pause:pauses phase:phases phrase:phrases purchase:purchases release:releases lease:leases case:cases purpose:purposes response:responses
	license:licenses licence:licences expense:expenses course:courses house:houses warehouse:warehouses nurse:nurses horse:horses verse:verses universe:universes dose:doses nose:noses rose:roses
	size:sizes prize:prizes price:prices service:services device:devices office:offices invoice:invoices voice:voices choice:choices notice:notices practice:practices slice:slices
	cave:caves wave:waves slave:slaves drive:drives archive:archives move:moves stove:stoves curve:curves valve:valves sleeve:sleeves hive:hives olive:olives glove:gloves grave:graves
	day:days key:keys journey:journeys survey:surveys survivor:survivors money:money`

// adjectives have no plural; verbs and shortened words that name tables stand with
// them.
var adjectives = strings.Fields(`active inactive old new pending open closed public private raw all current previous latest last recent final daily global local external internal
	main full extra primary secondary live dead online offline valid invalid unique temporary permanent available unavailable empty used unused read unread sent paid unpaid lost found hidden shown
	done due overdue late early free busy ready missing broken dirty clean dry wet hot cold warm big small large long short high low
	hourly weekly monthly quarterly yearly annual
	reindex rebuild reload resync sync refresh recalc recompute retry restart unsubscribe temp tmp misc etc`)

// nounsInEd and nounsInLy are nouns, whatever their ends look like.
var (
	nounsInEd = strings.Fields("hundred biped quadruped kindred hatred bobsled moped infrared")
	nounsInLy = strings.Fields("family reply supply assembly subassembly anomaly ally bully butterfly firefly jelly monopoly lily belly rally tally dolly trolley ply multiply homily")
)

// notNouns are words that stand before an adjective and are no nouns.
var notNouns = strings.Fields("not no non is has was were are be been all any most more less least very too so as if only also never ever still already just almost well un re pre post to by of")

// keptBefore are nouns in the plural that stay so before another one.
var keptBefore = strings.Fields("sales goods savings sports customs arms news clothes glasses earnings winnings holdings proceeds wages thanks contents grounds premises headquarters operations communications systems series species")

// prepositions join two nouns of which the first one is what is meant.
var prepositions = strings.Fields("of for by in at to from with per on")
