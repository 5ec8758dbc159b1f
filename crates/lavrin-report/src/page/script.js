(function(){
var box=document.getElementById("filter"),typed=document.getElementById("typed"),left=document.getElementById("left");
box.hidden=false;
var all=Array.prototype.slice.call(document.querySelectorAll("[data-f]")).map(function(e){return[e,(e.getAttribute("data-f")||e.firstElementChild.textContent).toLowerCase()]});
var waiting=0;
function show(){
var words=typed.value.toLowerCase().split(/\s+/).filter(Boolean),shown=0;
all.forEach(function(one){
var fits=words.every(function(word){return one[1].indexOf(word)>=0});
if(one[0].hidden===fits)one[0].hidden=!fits;
if(fits)shown++;
});
Array.prototype.forEach.call(document.querySelectorAll(".many"),function(some){some.hidden=words.length>0&&!some.querySelector("[data-f]:not([hidden])")});
left.textContent=words.length?" "+shown+" left":"";
}
typed.addEventListener("input",function(){clearTimeout(waiting);waiting=setTimeout(show,120)});
})();