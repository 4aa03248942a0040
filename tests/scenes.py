"""Files of four kinds under the same names, so that the same commands do on all of them."""

from __future__ import annotations

PLAN = """
[source.visits]
path = "visits.csv"
[source.hives]
path = "hives.csv"
[[step]]
settle = "hives"
key = ["yard", "hive"]
otherwise = "first"
into = "register"
[[step]]
join = ["visits", "register"]
key = ["yard", "hive"]
into = "season"
[expect]
rows = ["season >= 1"]
[handover]
result = "season"
"""


def ordinary(put) -> None:
    """A dozen rows with a key that is missing, keys that look alike, a repeat and a conflict."""
    put(
        visits_csv="yard,hive,kg,seen\nElm,1,12.5,2031-04-01\nElm,1,3,2031-05-02\nElm,2,,2031-04-01\n"
        "oak,7,8.25,2031-04-03\nOak,7,1,2031-04-04\nAsh,03,2.5,2031-04-05\n,4,1.5,2031-04-05\n"
        "Yew,9,n/a,2031-04-06\n",
        more_csv='yard,hive,"kg ",seen,note\nElm,1,4,2031-06-01,calm\nElm,5,6,2031-06-01,\n',
        later_csv="yard,hive,kg,seen\nElm,1,12.5,2031-04-01\nElm,1,3,2031-05-02\nElm,2,2,2031-04-01\n"
        "Oak,7,1,2031-04-04\nAsh,3,2.5,2031-04-05\nIvy,1,9,2031-04-09\n",
        hives_csv="yard,hive,breed,queen\nElm,1,Carnica,Ada\nElm,1,Buckfast,Ada\nOak,7,Carnica,\n"
        "Ash,3,Ligustica,Cleo\nFir,6,Carnica,Dora\nElm,2,Carnica,Eve\n",
    )


def long_names(put) -> None:
    """Names and cells as long as people give them, in several scripts."""
    yard, hive = "Bienenstandort an der alten Mühle (Würzburg)", "蜂箱番号"
    head = f'yard,hive,kg,"measured weight of the honey supers, in kilograms, with lids",{hive}\n'
    rows = "".join(
        f'"{yard}, {n % 3}",{n:03d}-x,{n}.5,{n}.25,"{"very " * (n % 4 * 8)}busy"\n'
        for n in range(12)
    )
    put(
        visits_csv=head + rows,
        more_csv=head.replace("kilograms", "kilogramms") + "A,1,2,3,x\n",
        later_csv=head + rows.replace("busy", "calm", 2),
        hives_csv="yard,hive,breed of the bees as it is written in the register\n"
        f'"{yard.lower()}, 1",001-x,Carnica\nA,1,Buckfast\nA,1,Ligustica\n',
    )


def many(put) -> None:
    """Thousands of rows, many columns, and more of each kind of trouble than can be listed."""
    names = ",".join(f"c{n}" for n in range(30))
    cells = ",".join(str(n) for n in range(30))
    visits = [f"Y{n % 97},{n % 1500},{n % 13}.5,{cells}\n" for n in range(4000)]
    put(
        visits_csv=f"yard,hive,kg,{names}\n" + "".join(visits),
        more_csv=f"yard,hive,kg,{names}\n" + "".join(visits[:1200]),
        later_csv=f"yard,hive,kg,{names}\n" + "".join(visits[700:]).replace(".5,", ".25,", 300),
        hives_csv="yard,hive,breed\n"
        + "".join(f"Y{n % 97},{n},B{n % 5}\n" for n in range(0, 2000, 3)),
    )


def empty(put) -> None:
    """Headings, and no row."""
    put(
        visits_csv="yard,hive,kg\n",
        more_csv="yard,hive,kg,note\n",
        later_csv="yard,hive,kg\n",
        hives_csv="yard,hive,breed\n",
    )
