//! x
fn main(){
 let f=churn::Flow::read("/tmp/t.csv").filter("litres > 0").group("farm, m = start_of(month, day)","litres = sum(litres), n = count(), s = sum(litres) where (grade = 'A')").add("share = litres / sum(litres) per table").sort("share desc");
 match f.plan() {Ok(p)=>println!("{p}"),Err(e)=>println!("{e}")}
 match f.run() {Ok(t)=>println!("{t}\n{}",t.ledger()),Err(e)=>println!("{e}")}
 println!("{f}");
 for bad in ["filter liters > 0","filter litres = 'a'","add a = sum(litres)","group by farm: x = litres","sort 1","filter litres > 0 > 2","add x = avg(litres)","filtre a", "add day = day + 1", "group by farm: sum(litres), litres_sum = count()", "filter day > '2026-13-01'"] {
   println!("---"); println!("{}", churn::Flow::read("/tmp/t.csv").then(bad).run().unwrap_err());
 }
}
