"""What the words of column names mean, in the languages that hobbyists write them in.

Stems of four letters and more are also found inside compounds (“akkuspannung” holds “spannung”).
"""

import re
import unicodedata

CONCEPTS: dict[str, str] = {
    # quantities
    "gyro": "katowa angolare angulaire giroscopica gyroscopique hoeksnelheid vinkelhastighet uhlova gyro gyr gyros gyroscope giro giroscopio gyroskop drehrate drehgeschwindigkeit winkelgeschwindigkeit kreisel angular "
    "omega zyroskop gyroskopet",
    "rate": "dot punkt taxa tasso takt rate rates vel velocity velocidad velocita vitesse vit geschwindigkeit snelheid predkosc hastighet rotation rot",
    "wanted": "want alvo pedida pedido onskat demandee riferimento zadane zadanie gewenste verlangt objetivo objectif desejado desejada onskad pozadovana obiettivo setpoint setpt sp set soll sollwert target tgt desired des deseado deseada desiderato wanted demand dem demanded "
    "reference ref consigne cons consigna referencia gewenst zadana zadany wens commanded wish obj goal vorgabe borvarde",
    "stick": "stk stick sticks rc rcin input inputs manche palanca knuppel knueppel joystick pilot stuurknuppel drazek pinne stickinput",
    "throttle": "manetta gashendel przepustnica gaspedaal gasreglag plyn acelera acceleratore gashandle throttle thr thro thrttl gas gaz acelerador acelerateur accelerateur collective thrust gashebel schub manetka "
    "potenza gasreglage manette",
    "motor": "motoren propulseur elica helice prop rotor rotors silniki motor motors mot mots moteur motore motori esc actuator actuators act silnik engine m motoroutput",
    "output": "pwm udgang output out outputs salida sortie ausgang uscita wyjscie uitgang",
    "rpm": "rpm rps erpm drehzahl revs regime tours umdrehungen toerental giri obroty varvtal revoluciones rotorspeed",
    "servo": "servo servos srv surface aileron ailerons elevator rudder flap flaps flaperon elevon vtail querruder hohenruder seitenruder",
    "airspeed": "airspeed fahrt pitot ias tas aspd airspd fluggeschwindigkeit",
    "home": "home launch takeoff",
    "accel": "acc accel accelerometer acceleration accelero beschleunigung aceleracion accelerazione versnelling przyspieszenie "
    "acceleracion accelerometre acelerometro",
    "attitude": "att attitude angle angles ang euler lage lagewinkel winkel assiette angulo angolo hoek kat orientation",
    "voltage": "tensio tensiune tensao napeti volty voltage volt volts vbat vbatt vb vpack spannung tension voltaje tensione spanning napiecie vcc",
    "battery": "akumulator akumulatora baterie batterij bateri bat batt battery batterie bateria akku batteria accu pack lipo bus",
    "current": "curr corrent amperes intensidad prud natezenie current amp amps amperage strom courant corriente corrente stroom prad ibat ib ibus",
    "altitude": "altezza altitudine vyska alt altitude height hgt hohe hoehe hauteur altura quota hoogte wysokosc hojd altitud elevation ele",
    "temperature": "temp temperature temperatur temperatura temperatuur",
    "baro": "baro barometer barometric pressure luftdruck barometre",
    "latitude": "lat latitude breite breitengrad latitud latitudine breedtegraad",
    "longitude": "lon lng long longitude laenge langengrad laengengrad longitud longitudine lengtegraad",
    "speed": "speed groundspeed gspeed gs spd",
    "ground": "ground gnd gps gnss sol suelo boden position pos",
    "course": "crs koers course cog kurs route track trk",
    "heading": "heading hdg head compass steuerkurs cap rumbo kompass mag",
    "mode": "mode fm fmode modus flightmode modo tryb betriebsart flugart flugphase flightphase",
    "event": "event events ereignis evento evenement msg message",
    "command": "summe command comando commande befehl cmd pidsum sum total mixer stellgrosse stellgroesse ctrl control steuersignal",
    "gain": "gain gains verstarkung ganancia guadagno",
    "term": "term terms anteil terme termino termine pid",
    # axes
    "roll": "bank kloneni rolagem rolamento tangering phi przechylenie przechyl rollning roll rollen rol roulis alabeo rollio rollachse lacinage querneigung quer",
    "pitch": "nose stamphoek klopeni tipp tippning theta pochylenie pochyl beccheggiata arfagem pitch nick nicken tangage cabeceo beccheggio tonaz langsneigung laengsneigung",
    "yaw": "gir psi odchylenie odchyl guinada giren zatoceni yaw gier gieren lacet guinada guinar imbardata gieren giering guignada",
    # terms
    "p": "proportional proporcional proporzionale pterm",
    "i": "integral integrator iterm",
    "d": "derivative differential derivada derivata dterm",
    "f": "ff feedforward fterm vorsteuerung",
    # the state of a signal
    "raw": "grezza grezzo ruwe surowy surowa ra surova bruta rohdaten ungefilterd ongefilterd niefiltrowany ofiltrerad raw unfilt unfiltered ungefiltert roh rohwert brut brute bruto cruda crudo nofilt pre unf grezzo nonfiltre ruw",
    "filtered": "filtrata filtrowany filtrerad filtrovany filt flt filtered lp lpf lowpass gefiltert filtrado filtrada filtre filtree filtrato post smooth smoothed clean gefilterd",
    "without": "sin sans ohne not non no without senza zonder bez utan",
    "second": "second secondary aux backup zweite b sec secondaire segundo imu2 gyro2",
    # clocks
    "time": "time t ts timestamp zeit temps tiempo tempo tid tijd czas clock uhr elapsed timeus timems zeitstempel horodatage hora heure",
    "counter": "cycle cycles count counter iteration iter muestra sample samples index idx n frame frames packet loop row zahler "
    "zaehler echantillon probe nr number seq",
}
_BY_WORD: dict[str, str] = {word: concept for concept, words in CONCEPTS.items() for word in words.split()}
# stems that may stand inside a longer word, the longest first
_STEMS = sorted(((word, concept) for word, concept in _BY_WORD.items() if len(word) >= 4), key=lambda pair: -len(pair[0]))
_MOST_STEMS = 3
_CLOCK_UNITS = {
    "micros": "us",
    "usec": "us",
    "us": "us",
    "millis": "ms",
    "msec": "ms",
    "ms": "ms",
    "ns": "ns",
    "nsec": "ns",
    "secs": "s",
}


# letters of Latin alphabets that are no plain letter with an accent
_LETTERS = str.maketrans({"ß": "ss", "æ": "ae", "Æ": "Ae", "ø": "o", "Ø": "O", "ł": "l", "Ł": "L", "đ": "d", "Đ": "D", "ı": "i"})


# a change of script parts words too, as where no blanks are written
_WORDS = re.compile(r"[a-z]+|[0-9]+|[\u4e00-\u9fff]+|[\u3041-\u309f]+|[\u30a1-\u30ff]+|[^\W\d_a-z\u3041-\u30ff\u4e00-\u9fff]+")


def tokens_of(name: str) -> tuple[str, ...]:
    """Words of a column name: lower case, no accents, parted at capitals, digits and punctuation.

    >>> tokens_of("gyrLpf[0]"), tokens_of("Drehrate Höhe_2"), tokens_of("GR_RAW")
    (('gyr', 'lpf', '0'), ('drehrate', 'hohe', '2'), ('gr', 'raw'))
    >>> tokens_of("角速度ロール"), tokens_of("Мотор 3")
    (('角速度', 'ロール'), ('мотор', '3'))
    """
    plain = unicodedata.normalize("NFKD", name)
    plain = "".join(letter for letter in plain if not unicodedata.combining(letter)).translate(_LETTERS)
    plain = re.sub(r"(?<=[a-z])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])", " ", plain)
    return tuple(_WORDS.findall(plain.lower()))


def concepts_of(tokens: tuple[str, ...]) -> frozenset[str]:
    """What the words of a name stand for; clock units (“micros”) count as time.

    >>> sorted(concepts_of(("akkuspannung",))), sorted(concepts_of(("sollrate", "nicken")))
    (['battery', 'voltage'], ['pitch', 'rate', 'wanted'])
    """
    found: set[str] = set()
    for token in tokens:
        if token in _BY_WORD:
            found.add(_BY_WORD[token])
        elif token in _CLOCK_UNITS:
            found.add("time")
        elif re.match(r"[gzh][iy]ro", token):  # gyro in most languages
            found.add("gyro")
        elif token.startswith(("batt", "bater", "batar")):
            found.add("battery")
        elif len(token) > 4:
            rest = token
            for stem, concept in _STEMS[:]:
                if stem in rest:
                    found.add(concept)
                    rest = rest.replace(stem, " ", 1)
                    found |= {_BY_WORD[part] for part in rest.split() if len(part) >= 3 and part in _BY_WORD}
                    if len(rest.replace(" ", "")) < 3 or len(found) > _MOST_STEMS:
                        break
    if {"without", "filtered"} <= found or {"raw", "without"} <= found:
        found -= {"without", "filtered"}
        found.add("raw")
    return frozenset(found)


def clock_unit(tokens: tuple[str, ...]) -> str:
    """A clock's unit where its name is one, as in “micros”; else ""."""
    return next((_CLOCK_UNITS[token] for token in tokens if token in _CLOCK_UNITS), "")
